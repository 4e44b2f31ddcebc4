import { operatorPlace } from '../values/operator-sql.js'
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

/** A property's value in a row, and the one that it is to have. */
export interface Pair {
  property: Property
  now: string
  next: string
}

/** These properties of the row under `alias`, and their new values in the same order. */
export function pairsOf(alias: string, set: readonly Property[], news: readonly string[]): Pair[] {
  return set.map((property, at) => ({ property, now: `${alias}.${property.column.sql}`, next: news[at] ?? '' }))
}

/**
 * Whether one of these values has another image than the new one. PostgreSQL refuses to compare two types, so that a column which was altered
 * after its table was read is noticed.
 */
export function imagesDifferSql(pairs: readonly Pair[]): string {
  const rowOf = (side: 'now' | 'next') =>
    `row(${pairs.map((pair) => asComparable(pair[side], pair.property.column.type.kind)).join(', ')})`
  return `pg_catalog.record_image_ne(${rowOf('now')}, ${rowOf('next')})`
}

/** The same for written code, whose types are what they were: by value where that says the same, as one would write it by hand. */
export function valuesDifferSql(pairs: readonly Pair[]): string {
  const byImage = pairs.filter(({ property }) => !isEqualAsImage(property))
  const parts = pairs
    .filter((pair) => !byImage.includes(pair))
    .map(({ now, next }) => `${now} is distinct from ${next}`)
    .concat(byImage.length > 0 ? imagesDifferSql(byImage) : [])
  return parts.length === 1 ? parts.join('') : `(${parts.join(' or ')})`
}

/** Types of which equal values have one image, and whose equality no search path can lead astray. */
const EQUAL_AS_IMAGE = new Set('bool int2 int4 int8 oid money uuid date time timestamp timestamptz bytea'.split(' '))

function isEqualAsImage({ column: { type, collation } }: Property): boolean {
  if (operatorPlace(type) !== null) return false
  // A number whose scale is fixed has no other way to be written; nor has a text, unless its collation holds different ones for the same.
  if (type.name === 'numeric') return type.precision !== null
  return type.name === 'text' ? collation === null : EQUAL_AS_IMAGE.has(type.name)
}

/** A value as images compare it: json by what it says, since its text has no order of its own, and spaces mean nothing in it. */
export function asComparable(sql: string, kind: string): string {
  return kind === 'json' ? `(${sql})::jsonb` : sql
}
