import type { Json } from '@ledgerman/contract'
import type { ScalarType } from './codec.js'
import { ValueError } from './value-error.js'

/**
 * A text, and every type without a codec of its own in PostgreSQL's text form. A text too long for its column is refused
 * here: the cast that gives the bind its type would cut it off without a word.
 */
export function stringToText(value: Json, type: ScalarType): string {
  const text = storableString(value, type.name === 'text' ? 'a string' : `a string that is a ${type.sql}`)
  if (type.length === null) return text
  if (type.name === 'name' || type.name === 'char') {
    // A byte above 127 of the type "char" is written in octal.
    const isOctal = type.name === 'char' && /^\\[0-7]{3}$/.test(text)
    if (!isOctal && Buffer.byteLength(text) > type.length)
      throw new ValueError(`a text of at most ${type.length} bytes`)
  } else if (type.name === 'bit') {
    if (text.length !== type.length || /[^01]/.test(text))
      throw new ValueError(`exactly ${type.length} ${type.length === 1 ? 'bit' : 'bits'} of 0 and 1`)
  } else if ([...text].length > type.length) {
    const unit = type.name === 'varbit' ? 'bit' : 'character'
    throw new ValueError(`at most ${type.length} ${unit}${type.length === 1 ? '' : 's'}`)
  }
  return text
}

export function enumToText(value: Json, type: ScalarType): string {
  const labels = type.labels ?? []
  if (typeof value !== 'string' || !labels.includes(value)) {
    throw new ValueError(`one of ${labels.map((label) => JSON.stringify(label)).join(', ')}`)
  }
  return value
}

/** A string that PostgreSQL can store: no U+0000, and no lone surrogate, which UTF-8 cannot carry. */
export function storableString(value: Json, expected: string): string {
  if (typeof value !== 'string') throw new ValueError(expected)
  if (value.includes('\u0000')) throw new ValueError(`${expected} without U+0000, which PostgreSQL cannot store`)
  if (/\p{Surrogate}/u.test(value))
    throw new ValueError(`${expected} of whole characters; half a surrogate pair is none`)
  return value
}
