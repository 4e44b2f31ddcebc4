import { readSql } from './sql-form.js'
import type { ColumnType } from './column-type.js'

/** Types whose cast to text gives what their output function gives; it does not for boolean, inet, character and others. */
const CAST_AS_SENT = new Set(
  'int2 int4 int8 numeric float4 float8 money text varchar uuid date time timetz timestamp timestamptz interval json jsonb bytea'.split(
    ' ',
  ),
)

/** Whether a value cast to text is just what the server sends for it. */
export function isSentAsCast(type: ColumnType): boolean {
  return CAST_AS_SENT.has(type.name) || type.kind === 'enum'
}

/** The SQL of a column's value as a text: just what the server would send for the value itself. */
export function wireTextSql(expression: string, type: ColumnType): string {
  const value = readSql(expression, type)
  if (isSentAsCast(type)) return `${value}::text`
  return `case when ${expression} is null then null else pg_catalog.format('%s', ${value}) end`
}
