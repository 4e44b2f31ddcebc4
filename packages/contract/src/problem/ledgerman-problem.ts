import type { ProblemCode } from './catalogue.js'

/** Facts a problem carries beside its code and detail: names, positions, values. Never a sensitive value. */
export type ProblemFacts = Record<string, unknown>

/**
 * The one error that leaves the core on purpose. Branch on `code`; `detail` is for people and may change.
 */
export class LedgermanProblem extends Error {
  override readonly name = 'LedgermanProblem'

  constructor(
    readonly code: ProblemCode,
    readonly detail: string,
    readonly facts: ProblemFacts = {},
    options?: ErrorOptions,
  ) {
    super(`${code}: ${detail}`, options)
  }

  /** The same problem with more facts, for a caller that knows more about where it happened. */
  with(facts: ProblemFacts): LedgermanProblem {
    return new LedgermanProblem(this.code, this.detail, { ...this.facts, ...facts }, { cause: this.cause })
  }
}

/** Whether an error is a problem of ours, and of that code where one is given. */
export function isProblem(error: unknown, code?: ProblemCode): error is LedgermanProblem {
  return error instanceof LedgermanProblem && (code === undefined || error.code === code)
}
