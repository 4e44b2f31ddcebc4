import type { Property } from '../mapping/mapping.js'
import type { ColumnType, ElementType, ValueKind } from '../values/column-type.js'
import { readSql } from '../values/sql-form.js'
import { formsOf } from './text-forms.js'
import { quoted } from './text.js'

/** The TypeScript type of a property's value, as it is read. */
export function typeOf({ kind, labels, element }: ColumnType): string {
  if (kind === 'array' && element) {
    const type = orNull(scalarType(element.kind, element.labels))
    return type.includes(' ') ? `(${type})[]` : `${type}[]`
  }
  return scalarType(kind, labels)
}

function scalarType(kind: ValueKind, labels: string[] | null): string {
  if (kind === 'enum' && labels && labels.length > 0) return labels.map(quoted).join(' | ')
  return (
    {
      boolean: 'boolean',
      integer: 'number',
      float: "number | 'NaN' | 'Infinity' | '-Infinity'",
      json: 'unknown',
      jsonb: 'unknown',
    }[kind as string] ?? 'string'
  )
}

/** A type that may be null too; `unknown` says so already. */
export function orNull(type: string): string {
  return type === 'unknown' ? type : `${type} | null`
}

export function isNullable({ column }: Property): boolean {
  return !column.notNull && !column.type.domainNotNull
}

/** The expression that reads a value of this type out of PostgreSQL's text, and the names it takes from the support. */
export function readerOf(type: ColumnType): string {
  if (type.kind !== 'array' || !type.element) return scalarReader(type.kind)
  return `readArray(${scalarReader(type.element.kind)}, ${quoted(type.element.delimiter)})`
}

function scalarReader(kind: ValueKind): string {
  const readers: Partial<Record<ValueKind, string>> = {
    boolean: 'readBoolean',
    integer: 'readNumber',
    float: 'readNumber',
    bytea: 'readBytes',
    json: 'readJson',
    jsonb: 'readJson',
    timestamp: 'readTimestamp',
    timestamptz: 'readTimestamptz',
  }
  return readers[kind] ?? 'readText'
}

/** The expression that writes a value of this type as PostgreSQL reads it. */
export function writerOf(type: ColumnType): string {
  if (type.kind !== 'array' || !type.element) return scalarWriter(type)
  const { element } = type
  const holdsJson = element.kind === 'json' || element.kind === 'jsonb'
  return `writeArray(${scalarWriter(element)}, ${quoted(element.delimiter)}, ${holdsJson})`
}

const WHOLE_RANGES: Record<string, string> = {
  int2: '-32768n, 32767n',
  int4: '-2147483648n, 2147483647n',
  int8: '-9223372036854775808n, 9223372036854775807n',
}

function scalarWriter(type: ColumnType | ElementType): string {
  switch (type.kind) {
    case 'boolean':
      return 'writeBoolean'
    case 'integer':
    case 'bigint':
      return `writeWhole(${WHOLE_RANGES[type.name] ?? WHOLE_RANGES['int8']}, ${type.kind === 'bigint'})`
    case 'float':
      return 'writeFloat'
    case 'numeric':
      return `writeNumeric(${type.precision?.digits ?? null}, ${type.precision?.scale ?? null})`
    case 'money':
      return 'writeNumeric(19, 2)'
    case 'enum':
      return `writeOneOf([${(type.labels ?? []).map(quoted).join(', ')}])`
    case 'json':
    case 'jsonb':
      return 'writeJson'
    case 'bytea':
      return 'writeBytes'
    case 'text':
      return `writeText(${type.length})`
    default:
      return 'writeText(null)'
  }
}

/**
 * The SQL that reads a column so that the session's settings do not matter, for a load that needs no transaction; undefined where there is none.
 * PostgreSQL writes moments into JSON as ISO 8601 whatever the date style.
 */
export function plainReadSql(sql: string, type: ColumnType): string | undefined {
  switch (type.kind) {
    case 'timestamptz':
      return `case when not pg_catalog.isfinite(${sql}) then ${sql}::text when ${sql} < '0001-01-01 00:00:00Z' then pg_catalog.replace(pg_catalog.replace(pg_catalog.to_json(${sql} at time zone 'UTC') operator(pg_catalog.#>>) '{}', 'T', ' '), ' BC', '+00 BC') else (pg_catalog.to_json(${sql} at time zone 'UTC') operator(pg_catalog.#>>) '{}') || 'Z' end`
    case 'timestamp':
    case 'date':
      return `pg_catalog.to_json(${sql}) operator(pg_catalog.#>>) '{}'`
    case 'bytea':
      return `'\\x' || pg_catalog.encode(${sql}, 'hex')`
    default:
      return isAlwaysSame(type) ? readSql(sql, type) : undefined
  }
}

/** A float's text is whole by default, since version 12. */
function isAlwaysSame(type: ColumnType): boolean {
  return formsOf(type).every((form) => form === 'extra_float_digits')
}
