import { LedgermanProblem, parseJson, printJson, RawJson, type Json } from '@ledgerman/contract'
import { arrayToText } from '../values/array-codec.js'
import type { ColumnType, ElementType } from '../values/column-type.js'
import { ValueError } from '../values/value-error.js'
import { valueToText } from '../values/value-text.js'

/** How a parameter is used: the column type it is compared with, where it is one, and whether it is a list of such. */
export interface ParameterUse {
  name: string
  isList: boolean
  as: ColumnType | null
}

/**
 * Turns a parameter's JSON value into PostgreSQL's text form for the place it is used in. What comes from an address is
 * text, and read as what the place wants.
 *
 * @param isSensitive whether a value that does not fit is left out of what is said of it.
 * @throws LedgermanProblem value-invalid, naming the parameter.
 */
export function parameterText({ name, isList, as }: ParameterUse, isSensitive: boolean, value: Json): string | null {
  if (value === null && !isList) return null
  try {
    if (isList) return listText(as, value)
    return as === null ? plainText(value) : valueToText(fromText(value, as), unlimited(as))
  } catch (error) {
    if (!(error instanceof ValueError)) throw error
    const got = isSensitive ? '' : `, got ${printJson(value)}`
    throw new LedgermanProblem('value-invalid', `:${name}: expected ${error.expected}${got}.`, {
      where: name,
      parameter: name,
      expected: error.expected,
    })
  }
}

function listText(as: ColumnType | null, value: Json): string {
  const list = typeof value === 'string' ? parseList(value) : value
  if (!Array.isArray(list)) throw new ValueError('a list')
  if (list.some((item) => item === null))
    throw new ValueError('a list without null: nothing is in a list for being null')
  const element: ElementType = as === null ? PLAIN_TEXT : { ...unlimited(as), delimiter: ',' }
  return arrayToText(as === null ? list.map(plainText) : list.map((item) => fromText(item, as)), element)
}

/** In an address a list is JSON, or one value. */
function parseList(text: string): Json {
  try {
    const list = parseJson(text)
    return Array.isArray(list) ? list : [text]
  } catch {
    return [text]
  }
}

function plainText(value: Json): string {
  return typeof value === 'string' ? value : printJson(value)
}

/** A value of an address or command line is text; what JSON would carry otherwise is read as such. */
function fromText(value: Json, { kind }: ColumnType): Json {
  if (typeof value !== 'string') return value
  switch (kind) {
    case 'boolean':
      return value === 'true' || (value === 'false' ? false : value)
    case 'integer':
    case 'float':
      return /^-?\d+(\.\d+)?(e[+-]?\d+)?$/i.test(value) ? new RawJson(value) : value
    case 'array':
    case 'json':
    case 'jsonb':
      return parsed(value)
    default:
      return value
  }
}

function parsed(text: string): Json {
  try {
    return parseJson(text)
  } catch {
    return text
  }
}

const unlimitedTypes = new WeakMap<ColumnType, ColumnType>()

/** What something is compared with may be longer or finer than what the column can hold. */
function unlimited(type: ColumnType): ColumnType {
  let free = unlimitedTypes.get(type)
  if (!free) {
    free = { ...type, length: null, precision: null, fractionDigits: null, intervalFields: null }
    unlimitedTypes.set(type, free)
  }
  return free
}

const PLAIN_TEXT: ElementType = {
  sql: 'text',
  comparable: 'text',
  operators: 'pg_catalog',
  name: 'text',
  kind: 'text',
  length: null,
  precision: null,
  fractionDigits: null,
  intervalFields: null,
  labels: null,
  delimiter: ',',
}
