import { LedgermanProblem } from '../problem/ledgerman-problem.js'

/** The key values of a record, joined for an address: each percent-encoded (RFC 3986), with commas between them. */
export function toRecordAddress(keyValues: readonly string[]): string {
  return keyValues.map((value) => encodeURIComponent(value).replaceAll("'", '%27')).join(',')
}

/**
 * The key values in an address: split at commas first and decoded then, so that an encoded comma stays in its value.
 *
 * @throws LedgermanProblem request-invalid where the percent-encoding is broken.
 */
export function fromRecordAddress(address: string): string[] {
  return address.split(',').map((part) => {
    try {
      return decodeURIComponent(part)
    } catch {
      throw new LedgermanProblem('request-invalid', `The key part "${part}" is not valid percent-encoding.`, {
        where: 'key',
      })
    }
  })
}
