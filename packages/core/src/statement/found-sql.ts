import type { Mapping, Property } from '../mapping/mapping.js'
import { freshNames } from './keyed-statement.js'

/** How a step finds its rows: every part of a statement that reads records is one of these. */
export interface FoundSql {
  mapping: Mapping
  /** Where they come from, each the row under `t`: the table, or rows that were locked before. */
  from: string
  condition: string
  /** How they are ordered and locked, a line each. */
  end: readonly string[]
  /** The properties that are looked at afterwards. */
  columns: readonly Property[]
  guard: string
  /** Further columns, such as `asked.place as place`. */
  beside?: readonly string[]
}

/** The rows that are found, with their guard beside their own columns. */
export function foundSql({ mapping, from, condition, end, columns, guard, beside = [] }: FoundSql): string {
  const values = [
    columns.map(({ column }) => `t.${column.sql}`).join(', '),
    ...beside,
    `${guard} as ${extraNames(mapping).guard}`,
  ]
  const select = `select ${values.filter((each) => each !== '').join(',\n  ')}`
  return [select, `from ${from}`, ...(condition === 'true' ? [] : [`where ${condition}`]), ...end].join('\n')
}

/** Names for columns beside the table's own. */
export function extraNames(mapping: Mapping) {
  return freshNames(mapping, EXTRA_NAMES)
}

const EXTRA_NAMES = [
  'actor',
  'guard',
  'guard_holds',
  'as_expected',
  'differs',
  'written',
  'broken',
  'image_key',
  'image_before',
  'image_after',
  'place',
  'part',
] as const

export function indented(text: string, by: number): string {
  return text.replaceAll('\n', `\n${' '.repeat(by)}`)
}
