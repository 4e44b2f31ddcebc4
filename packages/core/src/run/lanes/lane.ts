/** The ways to send a run, in the order in which they are tried: the first that takes it is cheapest. */
export const LANES = ['shared', 'in turn', 'one statement', 'step by step'] as const

/**
 * What became of a run that was sent one way. What is committed has nothing from which a refusal could be made: it can only be told.
 */
export type Sent<Found> =
  | { state: 'committed' | 'rehearsed'; found: Found }
  /** Nothing was done, for that error where there was one: the next way is tried. */
  | { state: 'passed'; because?: unknown }
  /** It was rolled back. */
  | { state: 'refused'; error: unknown }
  /** The connection broke when it may have been committed. */
  | { state: 'in doubt'; error: unknown }

/** One way to send a run. */
export interface Lane<Found> {
  readonly name: (typeof LANES)[number]
  /** Never throws: whatever goes wrong is an outcome. */
  send(): Promise<Sent<Found>>
}

export function refused(error: unknown): { state: 'refused'; error: unknown } {
  return { state: 'refused', error }
}

export const PASSED = { state: 'passed' } as const
