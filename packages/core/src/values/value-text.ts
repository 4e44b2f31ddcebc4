import type { Json } from '@ledgerman/contract'
import { arrayFromText, arrayToText } from './array-codec.js'
import type { ColumnType } from './column-type.js'
import { codecOf } from './scalar-codecs.js'

/**
 * Turns PostgreSQL's text form of a value into its JSON form; SQL NULL is JSON null.
 *
 * @throws ValueError for an array whose lower bounds are not 1: JSON cannot say so.
 */
export function valueFromText(text: string | null, type: ColumnType): Json {
  if (text === null) return null
  if (type.element !== null) return arrayFromText(text, type.element)
  return codecOf(type.kind).fromText(text, type)
}

/**
 * Turns a value's JSON form into text for PostgreSQL; JSON null is SQL NULL.
 *
 * @throws ValueError saying what was expected.
 */
export function valueToText(value: Json, type: ColumnType): string | null {
  if (value === null) return null
  if (type.element !== null) return arrayToText(value, type.element)
  return codecOf(type.kind).toText(value, type)
}
