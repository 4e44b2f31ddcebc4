import { comparedSql } from '../values/sql-form.js'
import type { Property } from '../mapping/mapping.js'
import type { SlotList } from './statement.js'

/** The condition that finds the one record by its key, or by other properties that are unique. */
export function keyConditionSql(key: readonly Property[], alias: string, slots: SlotList): string {
  return key
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
