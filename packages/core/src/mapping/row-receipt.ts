import type { RowReceipt } from '@ledgerman/contract'
import type { Mapping, Property } from './mapping.js'
import { shownRecord } from './record-row.js'

/** Texts of a row's columns before and after, by property; sensitive ones already digested. */
export interface RowImage {
  key: readonly (string | null)[]
  touched: readonly Property[]
  /** Null where there was no record. */
  before: readonly (string | null)[] | null
  /** Null where there is none any more. */
  after: readonly (string | null)[] | null
}

/** One written row: what was set apart from what changed beside it (the version, triggers, generated columns). */
export function toRowReceipt(
  mapping: Mapping,
  { key, touched, before, after }: RowImage,
  wasSet: (property: Property) => boolean,
): RowReceipt {
  const shownKey = shownRecord(mapping.key, key)
  if (before === null || after === null) {
    return {
      key: shownKey,
      before: before && shownRecord(touched, before),
      after: after && shownRecord(touched, after),
    }
  }
  const set: Differing = []
  const beside: Differing = []
  for (const [at, property] of touched.entries()) {
    const own = { property, before: before[at] ?? null, after: after[at] ?? null }
    if (own.before !== own.after) (wasSet(property) ? set : beside).push(own)
  }
  const told: RowReceipt = { key: shownKey, ...bothSides(set) }
  if (beside.length > 0) told.alsoChanged = bothSides(beside)
  return told
}

type Differing = { property: Property; before: string | null; after: string | null }[]

function bothSides(differing: Differing) {
  const properties = differing.map(({ property }) => property)
  const side = (name: 'before' | 'after') =>
    shownRecord(
      properties,
      differing.map((each) => each[name]),
    )
  return { before: side('before'), after: side('after') }
}
