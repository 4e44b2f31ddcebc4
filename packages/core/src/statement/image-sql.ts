import { storedSql } from '../values/sql-form.js'
import type { Property } from '../mapping/mapping.js'
import type { SlotList } from './statement.js'

/**
 * Whether these properties of the row under `alias` have the bound values: by image, so that another scale or letter case
 * counts. jsonb and json are compared by value, since their text has no order of its own.
 */
export function comparableImageSql(expected: readonly Property[], alias: string, slots: SlotList): string {
  if (expected.length === 0) return 'true'
  const bound = expected.map(({ name, column, sensitive }) => {
    const placeholder = slots.add({
      name: `:loaded.${name}`,
      type: column.type.sql,
      sensitive,
      source: { from: 'expected', property: name },
    })
    return asComparable(storedSql(placeholder, column.type), column.type.kind)
  })
  const current = expected.map(({ column }) => asComparable(`${alias}.${column.sql}`, column.type.kind))
  return `pg_catalog.record_image_eq(row(${current.join(', ')}), row(${bound.join(', ')}))`
}

/** A value as images compare it: json by what it says, since its text has no order of its own, and spaces mean nothing in it. */
export function asComparable(sql: string, kind: string): string {
  return kind === 'json' ? `(${sql})::jsonb` : sql
}
