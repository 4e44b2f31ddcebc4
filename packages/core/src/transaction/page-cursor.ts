import { LedgermanProblem } from '@ledgerman/contract'
import type { Mapping } from '../mapping/mapping.js'

/** The place a page ends at, for the caller to hand back: the last row's key values, or its ctid where there is no key. */
export function writeCursor(mapping: Mapping, row: readonly (string | null)[]): string {
  const place =
    mapping.key.length === 0
      ? [row[mapping.properties.length]]
      : mapping.key.map((property) => row[mapping.properties.indexOf(property)])
  return Buffer.from(JSON.stringify(place)).toString('base64url')
}

/**
 * The values for the slots of the next page's condition, by property; the place itself under the empty name.
 *
 * @throws LedgermanProblem request-invalid for what is not a cursor of this mapping.
 */
export function readCursor(mapping: Mapping, cursor: string): ReadonlyMap<string, string> {
  const names = mapping.key.length === 0 ? [''] : mapping.key.map((property) => property.name)
  const parts = parse(cursor)
  if (!Array.isArray(parts) || parts.length !== names.length || !parts.every((part) => typeof part === 'string')) {
    throw new LedgermanProblem(
      'request-invalid',
      `after: expected the "next" of an earlier page of ${mapping.name}, got "${cursor}".`,
      { where: 'after' },
    )
  }
  return new Map(names.map((name, at) => [name, parts[at] as string]))
}

function parse(cursor: string): unknown {
  try {
    return JSON.parse(Buffer.from(cursor, 'base64url').toString())
  } catch {
    return undefined
  }
}
