import { readSql } from '../values/sql-form.js'
import type { Mapping, Property } from '../mapping/mapping.js'
import { guardValueSql } from './guard-sql.js'
import { keyConditionSql } from './key-sql.js'
import { SlotList, toStatement, type Statement } from './statement.js'

/**
 * Reads one record by its key, or by other properties that are unique. Row shape: every property in order, then the guard's
 * value. A second row is asked for, so that a view's key which is none after all is noticed.
 */
export function buildLoad(mapping: Mapping, by: readonly Property[] = mapping.key): Statement {
  const slots = new SlotList()
  const condition = keyConditionSql(by, 't', slots)
  const text = `select ${selectList(mapping)}, ${guardValueSql(mapping.guard, 't')}\nfrom ${mapping.table.sql} as t\nwhere ${condition}\nlimit 2`
  return toStatement(text, slots)
}

/** Every property of the row under `t`, in order, in the text form its codec expects. */
export function selectList(mapping: Mapping): string {
  return mapping.properties.map(({ column }) => readSql(`t.${column.sql}`, column.type)).join(', ')
}
