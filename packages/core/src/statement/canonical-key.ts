import type { Mapping, Property } from '../mapping/mapping.js'
import { DIGEST_DIGITS } from '../values/digest.js'
import type { ColumnType } from '../values/column-type.js'
import { equalSql } from '../values/operator-sql.js'
import { comparedSql } from '../values/sql-form.js'
import { digestBySql } from './book-sql.js'

/** A sensitive part that is a digest already. */
const IS_DIGEST = `operator(pg_catalog.~) '^hmac:[0-9a-f]{${DIGEST_DIGITS}}$'`

/**
 * The SQL of a record's key as the book keeps it: each part read as its column's type and written as PostgreSQL writes it, so that a key
 * is found however it is spelled (another zone, upper case, padding). Sensitive parts become digests; those that are digests stay as they are.
 *
 * @param array the SQL of a text[] that holds the parts
 * @param pads where the padded keys of digests are bound; null where every sensitive part is a digest
 */
export function canonicalKeySql({ key }: Pick<Mapping, 'key'>, array: string, pads: string | null): string {
  const parts = key.map(({ sensitive, column }, at) => {
    const part = `(${array})[${at + 1}]`
    const written = writtenSql(part, column.type)
    if (!sensitive) return written
    return pads === null ? part : `case when ${part} ${IS_DIGEST} then ${part} else ${digestBySql(written, pads)} end`
  })
  return `array[${parts.join(', ')}]::text[]`
}

/**
 * The SQL of all keys under which the book may have what was done to a record, as a subquery of the column `key`: the given one, and the one that the record has now,
 * where the type holds what is written in different ways for the same (`Vega` and `VEGA`, `1.0` and `1`, a day and 24 hours).
 *
 * @param array as of `canonicalKeySql`, with what it may refer to
 */
export function bookedKeysSql(mapping: Mapping, array: string, pads: string | null): string {
  const { key, table } = mapping
  const canonical = `select ${canonicalKeySql(mapping, array, pads)} as key`
  if (isKeyWrittenOneWay(mapping)) return `(${canonical})`
  const present = key.map(({ column, sensitive }) => {
    const written = `t.${column.sql}::text`
    return sensitive && pads !== null ? digestBySql(written, pads) : written
  })
  const isIt = key.map(({ column, sensitive }, at) => {
    const part = `(${array})[${at + 1}]`
    const given = comparedSql(part, column.type)
    return equalSql(
      `t.${column.sql}`,
      sensitive ? `(case when ${part} ${IS_DIGEST} then null else ${given} end)` : given,
      column.type,
    )
  })
  return `(${canonical} union select array[${present.join(', ')}] from ${table.sql} as t where ${isIt.join(' and ')})`
}

/** A value as PostgreSQL writes one of its column: numbers with all the digits that the column keeps, where there are no further ones. */
function writtenSql(part: string, type: ColumnType): string {
  const value = comparedSql(part, type)
  if (type.kind !== 'numeric' || type.precision === null) return `(${value})::text`
  const kept = `pg_catalog.round(${value}, ${type.precision.scale})`
  return `(case when ${kept} = ${value} then ${kept} else ${value} end)::text`
}

/** Whether two keys are of one record only where PostgreSQL writes them alike. */
export function isKeyWrittenOneWay({ key }: Pick<Mapping, 'key'>): boolean {
  return key.every(isWrittenOneWay)
}

/** Types of which values are the same only where PostgreSQL writes them alike. */
const WRITTEN_ONE_WAY = new Set(
  'bool int2 int4 int8 oid uuid date time timetz timestamp timestamptz bytea money text varchar bpchar name char inet cidr macaddr macaddr8 bit varbit'.split(
    ' ',
  ),
)

function isWrittenOneWay({ column: { type, collation } }: Property): boolean {
  const { kind, name, precision, comparable } = type.element ?? type
  if (kind === 'enum') return true
  if (collation !== null || comparable.includes('.')) return false
  return kind === 'numeric' ? precision !== null : WRITTEN_ONE_WAY.has(name)
}
