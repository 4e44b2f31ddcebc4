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

/** The same as the service takes it: in json, what JavaScript can hold, since the written code can be given nothing else. */
export function asGiven(value: Json, type: ColumnType | null): Json {
  if (!/^jsonb?$/.test(type?.element?.kind ?? type?.kind ?? '')) return value
  return JSON.parse(JSON.stringify(JSON.parse(printJson(value)))) as Json
}
