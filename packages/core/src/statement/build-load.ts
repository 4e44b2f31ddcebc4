import type { Mapping, Property } from '../mapping/mapping.js'
import { AskedSlots, askedSql } from './asked-slots.js'
import { guardValueSql } from './guard-sql.js'
import { isUnique, keyConditionSql } from './key-sql.js'
import { outputSql } from './keyed-statement.js'
import { SlotList, toStatement, type Statement } from './statement.js'

/**
 * Reads one record by its key, or by other properties that are unique. Row shape: every property in order, then the guard's
 * value. A second row is asked for, so that a view's key which is none after all is noticed.
 */
export function buildLoad(mapping: Mapping, by: readonly Property[] = mapping.key): Statement {
  const slots = new SlotList()
  const condition = keyConditionSql(by, 't', slots)
  return toStatement(`select ${loadedSql(mapping)}\nfrom ${mapping.table.sql} as t\nwhere ${condition}\nlimit 2`, slots)
}

/**
 * Reads the records of several callers by their keys. Row shape: the caller's place, from 1, then as `buildLoad` has it. The slots
 * are those of `buildLoad`, each an array.
 *
 * @returns undefined where a key might find several rows.
 */
export function buildSharedLoad(mapping: Mapping, by: readonly Property[]): Statement | undefined {
  if (!isUnique(mapping, by)) return undefined
  const slots = new AskedSlots()
  const condition = keyConditionSql(by, 't', slots)
  // In a join the whole of a table of a few thousand rows would be read: that is what the planner takes for cheaper.
  return toStatement(
    `select hit.* from ${askedSql(slots)} cross join lateral (
  select asked.place, ${loadedSql(mapping)}
  from ${mapping.table.sql} as t
  where ${condition}
  offset 0
) as hit`,
    slots,
  )
}

/** Every property of the row under `t`, in order, in the text form its codec expects; then its guard. */
function loadedSql(mapping: Mapping): string {
  return `${outputSql('t', mapping.properties)}, ${guardValueSql(mapping.guard, 't')}`
}
