import type { Mapping, Property } from '../mapping/mapping.js'
import { equalSql } from '../values/operator-sql.js'
import { readSql } from '../values/sql-form.js'

/**
 * Builds the statement that compares what a step of a committed run wrote with the rows as they are: how many it wrote (of a row
 * written by several steps the last counts), how many stand as written, and how many were written again since.
 *
 * Its binds are the entry's id and the step's number.
 *
 * @param mapping one with a key
 */
export function confirmSql(mapping: Mapping, touched: readonly Property[], isRemoved: boolean): string {
  const isOpenKey = mapping.key.every((property) => !property.sensitive)
  const isOpen = isOpenKey && touched.every((property) => !property.sensitive)
  // The column itself is compared, so that its index serves.
  const join = mapping.key
    .map(({ column }, at) => equalSql(`t.${column.sql}`, `i.key[${at + 1}]::${column.type.comparable}`, column.type))
    .join(' and ')
  const current = touched.map(({ column }) => `${readSql(`t.${column.sql}`, column.type)}::text`).join(', ')
  const isThere = `t.${mapping.key[0]?.column.sql} is not null`
  const same = isRemoved ? `not (${isThere})` : `${isThere} and array[${current}] operator(pg_catalog.=) i.after`
  return `select count(*), count(*) filter (where ${isOpen ? same : isThere}), count(*) filter (where exists (
         select 1 from ledgerman.image later where later.record = i.record and later.key operator(pg_catalog.=) i.key and later.entry > i.entry
         union all select 1 from ledgerman.entry later where later.record = i.record and later.key operator(pg_catalog.=) i.key and later.id > i.entry))
       from ledgerman.image i left join ${mapping.table.sql} as t on ${isOpenKey ? join : 'false'}
       where i.entry = $1 and i.step = $2
         and not exists (select 1 from ledgerman.image again where again.entry = i.entry and again.record = i.record and again.key operator(pg_catalog.=) i.key and again.step > i.step)`
}
