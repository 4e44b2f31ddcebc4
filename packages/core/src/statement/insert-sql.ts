import type { Mapping, Property } from '../mapping/mapping.js'
import { imagesDifferSql, pairsOf } from './image-sql.js'
import { guardAfterSql } from './keyed-statement.js'
import { versionBumpSql } from './set-sql.js'
import { extraNames } from './found-sql.js'

/**
 * The part of a statement that adds a row. It gives every property of the row as added, its guard, and that it was written.
 *
 * @param values what the columns of `set` get: `values (…)`, or a `select`
 * @param returned what it gives beside
 */
export function insertSql(
  mapping: Mapping,
  {
    set,
    values,
    onConflict = '',
    returned = [],
  }: { set: readonly Property[]; values: string; onConflict?: string; returned?: readonly string[] },
): string {
  const names = extraNames(mapping)
  const columns = set.map(({ column }) => column.sql).join(', ')
  const given = [
    ...mapping.properties.map(({ column }) => `t.${column.sql}`),
    `${guardAfterSql(mapping, 't')} as ${names.guard}`,
    `true as ${names.written}`,
    ...returned,
  ]
  return `insert into ${mapping.table.sql} as t ${set.length > 0 ? `(${columns})\n  ${values}` : 'default values'}${onConflict}
  returning ${given.join(', ')}`
}

/** What an addition does where the record is there already. */
export function onConflictSql(
  mapping: Mapping,
  values: readonly { property: Property }[],
  onExisting: 'refuse' | 'keep' | 'change',
): string {
  if (onExisting === 'refuse') return ''
  const key = mapping.key.map(({ column }) => column.sql).join(', ')
  const properties = values.map(({ property }) => property).filter((property) => !property.key)
  const others = properties.map(({ column }) => column.sql)
  if (onExisting === 'keep' || others.length === 0) return `\n  on conflict (${key}) do nothing`
  const news = others.map((column) => `excluded.${column}`)
  const set = others.map((column, at) => `${column} = ${news[at]}`).concat(versionBumpSql(mapping, 't'))
  const differs = imagesDifferSql(pairsOf('t', properties, news))
  return `\n  on conflict (${key}) do update set ${set.join(', ')} where ${differs}`
}
