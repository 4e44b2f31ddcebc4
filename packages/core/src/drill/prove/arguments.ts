import { printJson, RawJson, type Json } from '@ledgerman/contract'
import { typeOf } from '../../code/value-code.js'
import type { ColumnType } from '../../values/column-type.js'

/** A parameter as the written code takes it: an exact number is a text there. */
export function toArgument(value: Json, type: ColumnType | null): unknown {
  const isNumber = typeof value === 'number' || value instanceof RawJson
  if (Array.isArray(value) && type?.kind === 'array')
    return value.map((each) => toArgument(each, type.element as ColumnType | null))
  return isNumber && (type === null || typeOf(type) === 'string') ? printJson(value) : value
}
