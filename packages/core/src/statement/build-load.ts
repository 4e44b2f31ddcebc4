import { readSql } from '../values/sql-form.js'
import type { Mapping } from '../mapping/mapping.js'
import { guardValueSql } from './guard-sql.js'
import { keyConditionSql } from './key-sql.js'
import { SlotList, toStatement, type Statement } from './statement.js'

/**
 * Reads one record by its key. Row shape: every property in order, then the guard's value. A second row is asked for, so
 * that a view's key which is none after all is noticed.
 */
export function buildLoad(mapping: Mapping): Statement {
  const slots = new SlotList()
  const condition = keyConditionSql(mapping, 't', slots)
  const text = `select ${selectList(mapping)}, ${guardValueSql(mapping.guard, 't')}\nfrom ${mapping.table.sql} as t\nwhere ${condition}\nlimit 2`
  return toStatement(text, slots)
}

/**
 * Reads a page of records in key order (in order of place where the table has no key), after the one whose key is bound.
 * Row shape: every property in order, then the place (`ctid`) where there is no key.
 */
export function buildList(mapping: Mapping, fromStart: boolean): Statement {
  const slots = new SlotList()
  const order = mapping.key.map((property) => `t.${property.column.sql}`)
  const byPlace = order.length === 0 && mapping.table.kind !== 'view'
  if (byPlace) order.push('t.ctid')
  const list = selectList(mapping) + (byPlace ? ', t.ctid' : '')
  const where = fromStart ? '' : `\nwhere ${afterCondition(mapping, byPlace, slots)}`
  const limit = slots.add({ name: ':limit', type: 'integer', sensitive: false, source: { from: 'limit' } })
  const orderBy = order.length === 0 ? '' : `\norder by ${order.join(', ')}`
  return toStatement(`select ${list}\nfrom ${mapping.table.sql} as t${where}${orderBy}\nlimit ${limit}::integer`, slots)
}

function afterCondition(mapping: Mapping, byPlace: boolean, slots: SlotList): string {
  if (byPlace) {
    const place = slots.add({ name: ':place', type: 'tid', sensitive: false, source: { from: 'key', property: '' } })
    return `t.ctid > ${place}::tid`
  }
  const columns = mapping.key.map((property) => `t.${property.column.sql}`)
  const values = mapping.key.map(({ name, column, sensitive }) => {
    const type = column.type.comparable
    return `${slots.add({ name, type, sensitive, source: { from: 'key', property: name } })}::${type}`
  })
  return columns.length === 1 ? `${columns[0]} > ${values[0]}` : `(${columns.join(', ')}) > (${values.join(', ')})`
}

/** Every property of the row under `t`, in order, in the text form its codec expects. */
function selectList(mapping: Mapping): string {
  return mapping.properties.map(({ column }) => readSql(`t.${column.sql}`, column.type)).join(', ')
}
