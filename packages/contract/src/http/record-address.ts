import { LedgermanProblem } from '../problem/ledgerman-problem.js'

/** The key values of a record, joined for an address: each percent-encoded (RFC 3986), with commas between them. */
export function toRecordAddress(keyValues: readonly string[]): string {
  return keyValues.map((value) => encodeURIComponent(value).replaceAll("'", '%27')).join(',')
}

/** Whether a path would swallow an address: empty, `.` or `..`. */
export function isSwallowed(address: string): boolean {
  return /^\.{0,2}$/.test(address)
}

/** What stands behind `records/` for a record, by its key's names and texts: where a path cannot carry the key, it is in the query. */
export function toRecordPath(key: readonly (readonly [name: string, text: string])[]): string {
  const address = toRecordAddress(key.map(([, text]) => text))
  if (address === '-') return '%2D'
  if (!isSwallowed(address)) return address
  return `-?${key.map(([name, text]) => `key.${encodeURIComponent(name)}=${encodeURIComponent(text)}`).join('&')}`
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
