import type { Guard } from '../mapping/mapping.js'
import { operatorPlace, operatorSql } from '../values/operator-sql.js'
import type { SlotList } from './statement.js'

/**
 * The guard's value as text, for a row under `alias`: the version, the row's xmin, or a digest of the named properties.
 * The digest is taken over the row's text form, in which null and the empty string differ. SQL null where there is no guard.
 */
export function guardValueSql(guard: Guard, alias: string): string {
  switch (guard.by) {
    case 'version':
      return `${alias}.${guard.property.column.sql}::text`
    case 'rowStamp':
      return `${alias}.xmin::text`
    case 'values': {
      const columns = guard.of.map((property) => `${alias}.${property.column.sql}`).join(', ')
      return `pg_catalog.left(pg_catalog.encode(pg_catalog.sha256(pg_catalog.convert_to(row(${columns})::text, 'UTF8')), 'hex'), 32)`
    }
    case 'none':
      return 'null::text'
  }
}

/** Whether the row under `alias` is still as it was loaded: its guard is one of those the caller gave. */
export function guardHoldsSql(guard: Guard, alias: string, slots: SlotList): string {
  const [value, operator, type] = comparedGuard(guard, alias)
  return `coalesce(${value} ${operator} any (${guardSlot(`${type}[]`, slots)}), false)`
}

/** The same where the caller gives one guard: null where it is not. */
export function guardIsSql(guard: Guard, alias: string, slots: SlotList): string {
  const [value, operator, type] = comparedGuard(guard, alias)
  return `${value} ${operator} ${guardSlot(type, slots)}`
}

function comparedGuard(guard: Guard, alias: string): [value: string, operator: string, type: string] {
  if (guard.by !== 'version') return [guardValueSql(guard, alias), operatorSql('=', null), 'text']
  const { sql, type } = guard.property.column
  return [`${alias}.${sql}`, operatorSql('=', operatorPlace(type)), type.comparable]
}

function guardSlot(type: string, slots: SlotList): string {
  return `${slots.add({ name: ':guard', type, sensitive: false, source: { from: 'guard' } })}::${type}`
}
