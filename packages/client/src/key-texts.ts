import { LedgermanProblem } from '@ledgerman/contract'

/**
 * The texts of a key's values, in key order, as an address has them.
 *
 * @throws LedgermanProblem request-invalid where it is no list, or a value is missing: as texts they would be those of another record
 */
export function keyTexts(key: readonly unknown[]): string[] {
  if (!Array.isArray(key) || key.length === 0)
    throw new LedgermanProblem(
      'request-invalid',
      "key: expected a list of the key's values in key order, such as ['P-107'].",
      { where: 'key' },
    )
  return key.map((value: unknown, at) => {
    if (typeof value === 'string') return value
    if (typeof value === 'number' || typeof value === 'bigint' || typeof value === 'boolean') return String(value)
    const got = value === null || value === undefined ? String(value) : `a value of type ${typeof value}`
    throw new LedgermanProblem('request-invalid', `key: value ${at + 1} has to be a text, got ${got}.`, {
      where: 'key',
    })
  })
}
