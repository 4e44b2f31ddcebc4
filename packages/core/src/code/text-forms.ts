import type { ColumnType, ElementType, ValueKind } from '../values/column-type.js'
import { quoted } from './text.js'

/** The settings of a session that texts of values may depend on (PostgreSQL, "Client Connection Defaults"). */
export const TEXT_FORMS = ['DateStyle', 'TimeZone', 'IntervalStyle', 'bytea_output', 'extra_float_digits'] as const

export type TextForm = (typeof TEXT_FORMS)[number]

const FORMS_BY_KIND: Partial<Record<ValueKind, readonly TextForm[]>> = {
  boolean: [],
  integer: [],
  bigint: [],
  numeric: [],
  money: [],
  enum: [],
  time: [],
  json: [],
  jsonb: [],
  float: ['extra_float_digits'],
  date: ['DateStyle'],
  timestamp: ['DateStyle'],
  timestamptz: ['DateStyle', 'TimeZone'],
  interval: ['IntervalStyle'],
  bytea: ['bytea_output'],
}

/** Types whose values are given as they are written, and are written the same whatever is set. */
const PLAIN_TEXTS = new Set([
  ...['text', 'varchar', 'bpchar', 'char', 'name', 'citext', 'uuid', 'bit', 'varbit', 'xml', 'hstore', 'ltree'],
  ...['inet', 'cidr', 'macaddr', 'macaddr8', 'int4range', 'int8range', 'numrange', 'tsvector', 'tsquery'],
])

/** The settings that the text of a value of this type depends on; all of them for a type that is not known here. */
export function formsOf(type: ColumnType | ElementType): readonly TextForm[] {
  if ('element' in type && type.kind === 'array' && type.element) return formsOf(type.element)
  if (type.kind === 'text') return PLAIN_TEXTS.has(type.name) ? [] : TEXT_FORMS
  return FORMS_BY_KIND[type.kind] ?? TEXT_FORMS
}

/** The settings that the texts of values of these types depend on, as a member of the written code's limits; none where it is all of them. */
export function formsMember(types: readonly ColumnType[]): string {
  const needed = new Set(types.flatMap(formsOf))
  const forms = TEXT_FORMS.filter((form) => needed.has(form))
  return forms.length === TEXT_FORMS.length ? '' : `, forms: [${forms.map(quoted).join(', ')}]`
}
