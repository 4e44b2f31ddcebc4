import { LedgermanProblem } from '@ledgerman/contract'
import type { Mapping } from '../mapping/mapping.js'

/** Where a page ended: the last row's values of the order, or how many rows came before. */
export type Place = { values: (string | null)[] } | { offset: number }

/** The place a page ends at, for the caller to hand back with the same order. */
export function writeCursor(order: string, place: Place): string {
  const content = 'values' in place ? { o: order, v: place.values } : { o: order, n: place.offset }
  return Buffer.from(JSON.stringify(content)).toString('base64url')
}

/** @throws LedgermanProblem request-invalid for what is not a cursor of this mapping in this order. */
export function readCursor(mapping: Mapping, order: string, cursor: string): Place {
  const { o, v, n } = parse(cursor)
  if (o === order && typeof n === 'number' && Number.isSafeInteger(n) && n >= 0) return { offset: n }
  if (o === order && Array.isArray(v) && v.every((value) => value === null || typeof value === 'string'))
    return { values: v as (string | null)[] }
  throw new LedgermanProblem(
    'request-invalid',
    `after: expected the "next" of an earlier page of ${mapping.name} in the same order, got "${cursor}".`,
    { where: 'after' },
  )
}

function parse(cursor: string): { o?: unknown; v?: unknown; n?: unknown } {
  try {
    const content: unknown = JSON.parse(Buffer.from(cursor, 'base64url').toString())
    return content !== null && typeof content === 'object' ? content : {}
  } catch {
    return {}
  }
}
