import { LedgermanProblem, type Expectation, type RecordValues } from '@ledgerman/contract'

/** Whether a count is one that was expected. */
export function isExpected(expect: Expectation, matched: number): boolean {
  if (typeof expect === 'number') return matched === expect
  switch (expect) {
    case 'one':
      return matched === 1
    case 'none':
      return matched === 0
    case 'some':
      return matched >= 1
    case 'any':
      return true
  }
  const [least, most] = expect.includes('..') ? expect.split('..') : [expect, expect]
  return matched >= Number(least || 0) && (most === '' || matched <= Number(most))
}

/**
 * The problem for a step that matched another number of rows than it expected.
 *
 * @param isKeyed whether one record was named by its key.
 * @param keyNames the properties of the key; of those that `key` has not got the value is not known, or not shown.
 */
export function unexpected(parts: {
  step: number
  what: string
  expect: Expectation
  matched: number
  sampleKeys: RecordValues[]
  isKeyed: boolean
  key: RecordValues
  keyNames?: readonly string[]
}): LedgermanProblem {
  const { step, what, expect, matched, sampleKeys, isKeyed, key, keyNames = [] } = parts
  const facts = { step, mapping: what, expected: String(expect), matched, sampleKeys }
  if (matched === 0 && (expect === 'one' || expect === 1) && isKeyed) {
    const words = keyNames.map((name) => `${name} ${name in key ? String(key[name]) : '…'}`)
    return new LedgermanProblem(
      'no-such-record',
      `Step ${step}: there is no ${what} with ${words.join(', ') || 'this key'}.`,
      {
        ...facts,
        key,
      },
    )
  }
  if (matched > 1 && expect === 'one')
    return new LedgermanProblem(
      'record-ambiguous',
      `Step ${step}: ${matched} records of ${what} fit, and one was meant. Say more, or name one by its key.`,
      facts,
    )
  return new LedgermanProblem(
    'count-mismatch',
    `Step ${step} expected ${describeExpectation(expect)} of ${what} and matched ${matched}${foundOnes(sampleKeys, matched)}. Nothing was changed.`,
    facts,
  )
}

/** What is said where a condition should leave rows out, and all match. */
export function noneLeftOut(mapping: string, matched: number): string {
  return `its condition leaves out no row of ${mapping}: it matches all ${matched}. If every row is meant, say everyRow: true.`
}

/** Which ones were found, where they are few: so it can be seen which one is missing, or too many. */
function foundOnes(keys: readonly RecordValues[], matched: number): string {
  if (keys.length === 0 || keys.length < matched) return ''
  return `: ${keys.map((key) => Object.values(key).map(String).join(',')).join(', ')}`
}

function describeExpectation(expect: Expectation): string {
  if (typeof expect === 'number') return `${expect} ${expect === 1 ? 'row' : 'rows'}`
  return (
    { one: 'one row', none: 'no row', some: 'at least one row', any: 'any number of rows' }[expect] ?? `${expect} rows`
  )
}
