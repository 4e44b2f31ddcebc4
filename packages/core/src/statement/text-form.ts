import type { Property } from '../mapping/mapping.js'
import type { ColumnType } from '../values/column-type.js'

/** The form that records are exported in, a line a record. */
export type TextForm = 'csv' | 'ndjson'

interface TextColumn {
  name: string
  property: Property
  sql: string
}

/**
 * The SQL of a record as one line of text, in the very form that its values have in the interface: the server then sends one column, and
 * nothing has to be read and printed again. Null where one of the columns is of a type whose form only its codec makes.
 */
export function lineSql(
  form: TextForm,
  columns: readonly TextColumn[],
  guard: { name: string; sql: string } | null,
): string | null {
  const values = columns.map(({ property, sql }) => valueSql(form, property.column, sql))
  if (values.some((value) => value === null)) return null
  const all = [...values, ...(guard ? [form === 'csv' ? `coalesce(${guard.sql}, '')` : jsonText(guard.sql)] : [])]
  if (form === 'csv') return all.join(` || ',' || `)
  const names = [...columns.map(({ name }) => name), ...(guard ? [guard.name] : [])]
  const members = all.map(
    (value, at) => `'${(at === 0 ? '{' : ',') + literal(JSON.stringify(names[at]))}:' || ${value}`,
  )
  return `${members.join(' || ')} || '}'`
}

/** Names of properties are letters, digits and underscores; nothing in them needs to be doubled, and it is all the same. */
function literal(text: string): string {
  return text.replaceAll("'", "''").replaceAll('\\', '\\\\')
}

function valueSql(form: TextForm, { type, collation }: Property['column'], sql: string): string | null {
  // No pattern is looked for under a collation by which different texts are equal.
  const text = plainText(type, collation === null ? sql : `(${sql} collate pg_catalog."C")`)
  if (text === null) return null
  if (form === 'csv') {
    if (!CAN_HOLD_ANYTHING.has(type.kind)) return `coalesce(${text}, '')`
    // What is empty, or has a sign of CSV in it, stands in quotes (RFC 4180); nothing else does.
    return `case when ${text} is null then '' when ${text} = '' or ${text} ~ E'[",\\r\\n]' then '"' || pg_catalog.replace(${text}, '"', '""') || '"' else ${text} end`
  }
  switch (type.kind) {
    case 'boolean':
    case 'integer':
      return `coalesce(${text}, 'null')`
    case 'float':
      // NaN and the infinities are no numbers of JSON.
      return `coalesce(case when ${text} ~ '^-?[0-9]' then ${text} else '"' || ${text} || '"' end, 'null')`
    case 'jsonb':
      return `coalesce(${text}, 'null')`
    case 'text':
    case 'enum':
      return jsonText(text)
    default:
      return `coalesce('"' || ${text} || '"', 'null')`
  }
}

function jsonText(text: string): string {
  return `coalesce(pg_catalog.to_json(${text})::text, 'null')`
}

/** Kinds whose texts can hold commas, quotes and line breaks. */
const CAN_HOLD_ANYTHING = new Set(['text', 'enum', 'jsonb'])

/** Types of text whose cast to text is what they print: not `char(n)`, which loses its padding, nor `inet`, which gains a mask. */
const PRINTED_AS_TEXT = new Set(['text', 'varchar', 'uuid'])

/** The value's text as the interface has it; null where that is more than the server's own text. */
function plainText({ kind, name, domain, operators }: ColumnType, sql: string): string | null {
  switch (kind) {
    case 'boolean':
    case 'integer':
    case 'bigint':
    case 'numeric':
    case 'date':
    case 'time':
    case 'interval':
    case 'enum':
      return `${sql}::text`
    case 'float':
      // Digits are written out as far as JSON's own printers do (ECMA-262, Number::toString).
      return `case when pg_catalog.strpos(${sql}::text, 'e') = 0 then ${sql}::text when pg_catalog.abs(${sql}) >= 1e-6::double precision and pg_catalog.abs(${sql}) < 1e21::double precision then ${sql}::text::numeric::text else pg_catalog.replace(${sql}::text, 'e-0', 'e-') end`
    case 'text':
      return PRINTED_AS_TEXT.has(name) && operators === 'pg_catalog' && domain === null ? `${sql}::text` : null
    case 'timestamp':
      return `case when ${sql} operator(pg_catalog.<) '0001-01-01' then ${sql}::text else pg_catalog.replace(${sql}::text, ' ', 'T') end`
    case 'timestamptz':
      return `case when ${sql} operator(pg_catalog.<) '0001-01-01' then ${sql}::text else pg_catalog.replace(pg_catalog.replace(${sql}::text, ' ', 'T'), '+00', 'Z') end`
    case 'jsonb':
      // A JSON null differs from no value, and what looks like the envelope from one.
      return `case when ${sql}::text = 'null' or ${sql}::text like '{"ledgerman:json":%' then '{"ledgerman:json":' || ${sql}::text || '}' else ${sql}::text end`
    default:
      return null
  }
}
