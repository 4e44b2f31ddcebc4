import { uniqueOver } from '../mapping/unique-over.js'
import { equalSql } from '../values/operator-sql.js'
import { comparedSql } from '../values/sql-form.js'
import type { Mapping, Property } from '../mapping/mapping.js'
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
      return equalSql(`${alias}.${column.sql}`, comparedSql(placeholder, column.type), column.type)
    })
    .join(' and ')
}

/** The condition that two rows of a table are the same one, by its key; `names` are the columns' names on the other side. */
export function sameKeySql(
  key: readonly Property[],
  alias: string,
  other: string,
  names: readonly string[] = key.map(({ column }) => column.sql),
): string {
  return key
    .map(({ column }, at) => equalSql(`${alias}.${column.sql}`, `${other}.${names[at]}`, column.type))
    .join(' and ')
}

/** Whether the database sees to it, at any moment, that no two rows have the same values of these: not in a view, nor across tables that inherit. */
export function isUnique(mapping: Mapping, by: readonly Property[]): boolean {
  const { table } = mapping
  if ((table.kind !== 'table' && table.kind !== 'partitioned table') || table.hasChildren) return false
  const unique = uniqueOver(mapping, by)
  return unique !== undefined && !table.deferrableKeys.includes(unique.name)
}
