// Written by Ledgerman: how many rows a step may match.
import { CountMismatch, RecordAmbiguous, RecordMissing } from './errors.js'

/** How many rows a step is meant to match: `one`, `none`, `some`, `any`, a number, or a range such as `2..40`. */
export type Expectation = string | number

/** @throws RecordMissing, RecordAmbiguous, CountMismatch */
export function expectCount(what: string, expected: Expectation, matched: number, isKeyed: boolean): void {
  if (fits(expected, matched)) return
  const isOne = expected === 'one' || expected === 1
  if (matched === 0 && isOne && isKeyed) throw new RecordMissing(`${what}: there is no such record.`)
  if (matched > 1 && expected === 'one')
    throw new RecordAmbiguous(`${what}: ${matched} records fit, and one was meant.`, String(expected), matched)
  throw new CountMismatch(
    `${what}: expected ${expected}, matched ${matched}. Nothing was changed.`,
    String(expected),
    matched,
  )
}

export function fits(expected: Expectation, matched: number): boolean {
  if (typeof expected === 'number') return matched === expected
  if (expected === 'any') return true
  if (expected === 'one') return matched === 1
  if (expected === 'none') return matched === 0
  if (expected === 'some') return matched >= 1
  const [least = '', most = ''] = expected.includes('..') ? expected.split('..') : [expected, expected]
  return matched >= Number(least || 0) && (most === '' || matched <= Number(most))
}
