import { isProblem, type ProblemCode, type Receipt } from '@ledgerman/contract'

/** Told of what happens on a target, for whoever counts it. Nothing of it holds a key or a value. */
export interface TargetActivity {
  /** A change of one record, or a run, is over. */
  ended?(what: 'change' | 'run', mode: Receipt['mode'], outcome: string, code: ProblemCode | null): void
  /** A run was sent one way (a lane), and that came to this; an error where it was passed on for one. */
  sent?(lane: string, state: string, because: unknown): void
  /** So many callers were sent for together. */
  grouped?(callers: number): void
  /** A run that PostgreSQL ended is tried again. */
  retried?(): void
  /** A statement waited for a lock, so many milliseconds by what was seen of it. */
  lockWaited?(ms: number): void
}

/** Who looks at a session while a statement runs in it, and may cancel that. */
export interface SessionWatch {
  readonly hasCancelled: boolean
  readonly settled: Promise<unknown>
  end(): void
}

/** Tells how a change or a run ended, and passes on what came of it. */
export async function tellEnd<T extends { receipt: Receipt }>(
  activity: TargetActivity,
  what: 'change' | 'run',
  mode: Receipt['mode'],
  work: Promise<T>,
): Promise<T> {
  try {
    const result = await work
    activity.ended?.(what, mode, result.receipt.outcome, null)
    return result
  } catch (error) {
    const code = isProblem(error) ? error.code : 'internal'
    activity.ended?.(what, mode, code === 'outcome-unknown' ? 'unknown' : 'refused', code)
    throw error
  }
}
