import { comparedSql } from '../values/sql-form.js'
import type { Mapping } from '../mapping/mapping.js'
import type { SlotList } from './statement.js'

/** The condition that finds the one record by its key. */
export function keyConditionSql(mapping: Mapping, alias: string, slots: SlotList): string {
  return mapping.key
    .map((property) => {
      const { name, column, sensitive } = property
      const placeholder = slots.add({
        name,
        type: column.type.comparable,
        sensitive,
        source: { from: 'key', property: name },
      })
      return `${alias}.${column.sql} = ${comparedSql(placeholder, column.type)}`
    })
    .join(' and ')
}
