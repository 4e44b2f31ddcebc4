import type { Mapping } from '../../mapping/mapping.js'
import { FLAGS, VERDICTS, type KeyedStatement } from '../../statement/keyed-statement.js'

/** What the row of a keyed statement says, taken apart. Values are in text form, one for each property of the mapping. */
export interface KeyedRow {
  before: (string | null)[] | null
  /** Null where nothing was written, or the record is gone. */
  after: (string | null)[] | null
  guardHolds: boolean
  asExpected: boolean
  differs: boolean
  written: boolean
  guardBefore: string | null
  guardAfter: string | null
  brokenRule: number | null
}

export function readKeyedRow(
  mapping: Mapping,
  { kind, touched }: KeyedStatement,
  row: readonly (string | null)[],
): KeyedRow {
  const { properties } = mapping
  const first = kind === 'add' ? 0 : properties.length
  const flag = (name: (typeof FLAGS)[number]) => row[first + FLAGS.indexOf(name)] ?? null
  const before = kind === 'add' ? null : row.slice(0, first)
  const touchedAfter = row.slice(first + FLAGS.length)
  const verdict = flag('verdict') ?? ''
  const is = (name: (typeof VERDICTS)[number]) => verdict[VERDICTS.indexOf(name)] === 't'
  const written = is('written')
  const afterAt = (index: number) => {
    const at = touched.indexOf(properties[index] as (typeof properties)[number])
    return at < 0 ? (before?.[index] ?? null) : (touchedAfter[at] ?? null)
  }
  return {
    before,
    after: written && kind !== 'remove' ? properties.map((_, index) => afterAt(index)) : null,
    guardHolds: is('guardHolds'),
    asExpected: is('asExpected'),
    differs: is('differs'),
    written,
    guardBefore: flag('guardBefore'),
    guardAfter: flag('guardAfter'),
    // In a booked statement the column is there only to raise.
    brokenRule: /^\d+$/.test(flag('brokenRule') ?? '') ? Number(flag('brokenRule')) : null,
  }
}
