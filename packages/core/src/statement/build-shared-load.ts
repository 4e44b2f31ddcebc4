import type { Mapping, Property } from '../mapping/mapping.js'
import { AskedSlots, askedSql } from './asked-slots.js'
import { selectList } from './build-load.js'
import { guardValueSql } from './guard-sql.js'
import { isUnique, keyConditionSql } from './key-sql.js'
import { toStatement, type Statement } from './statement.js'

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
  return toStatement(
    `select asked.place, ${selectList(mapping)}, ${guardValueSql(mapping.guard, 't')}\nfrom ${askedSql(slots)} join ${mapping.table.sql} as t on ${condition}`,
    slots,
  )
}
