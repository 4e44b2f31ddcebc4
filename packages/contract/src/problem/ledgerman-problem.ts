import type { Receipt } from '../receipt/receipt.js'
import type { RecordValues } from '../http/records.js'
import type { ProblemCode } from './catalogue.js'

/** Facts a problem carries beside its code and detail: names, positions, values. Never a sensitive value. */
export type ProblemFacts = Record<string, unknown>

/**
 * The one error that leaves the core on purpose. Branch on `code`; `detail` is for people and may change.
 */
export class LedgermanProblem extends Error {
  override readonly name = 'LedgermanProblem'
  // The members that callers ask for most; each is there where docs/refusals.md says so of the code.
  declare readonly yours?: RecordValues
  declare readonly current?: RecordValues
  declare readonly loaded?: RecordValues
  declare readonly overlap?: string[] | null
  declare readonly guard?: string | null
  declare readonly matched?: number
  declare readonly expected?: unknown
  declare readonly where?: string
  declare readonly properties?: string[]
  declare readonly broken?: { property: string; value: unknown; masked?: true }[]
  declare readonly findings?: { where: string; message: string }[]
  declare readonly receipt?: Receipt

  constructor(
    readonly code: ProblemCode,
    readonly detail: string,
    readonly facts: ProblemFacts = {},
    options?: ErrorOptions,
  ) {
    super(`${code}: ${detail}`, options)
    // What the documents call `yours` is `error.yours`; not enumerable, so that an error is not printed with all of it twice.
    for (const [name, value] of Object.entries(facts))
      if (!(name in this)) Object.defineProperty(this, name, { value, configurable: true })
  }

  /** The same problem with more facts, for a caller that knows more about where it happened. */
  with(facts: ProblemFacts): LedgermanProblem {
    return new LedgermanProblem(this.code, this.detail, { ...this.facts, ...facts }, { cause: this.cause })
  }
}

/** Whether an error is a problem of ours, and of one of these codes where some are given. */
export function isProblem(error: unknown, ...codes: ProblemCode[]): error is LedgermanProblem {
  return error instanceof LedgermanProblem && (codes.length === 0 || codes.includes(error.code))
}
