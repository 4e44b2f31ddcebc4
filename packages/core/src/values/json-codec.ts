import { parseJson, printJson, RawJson, type Json } from '@ledgerman/contract'
import { ValueError } from './value-error.js'

// A json column that holds the JSON value null has to differ from SQL NULL, and a stored object that looks like the
// envelope has to differ from an envelope: both travel as {"ledgerman:json": value}.
const IS_ENVELOPE = /^\s*\{\s*"ledgerman:json"\s*:/
const NEEDS_ENVELOPE = /^\s*(?:null\s*$|\{\s*"ledgerman:json"\s*:)/

export function jsonFromText(text: string): Json {
  return new RawJson(NEEDS_ENVELOPE.test(text) ? `{"ledgerman:json":${text}}` : text)
}

export function jsonToText(value: Json): string {
  // A value may come as it was loaded, not read yet.
  const read = value instanceof RawJson && IS_ENVELOPE.test(value.text) ? parseJson(value.text) : value
  const inside = isEnvelope(read) ? (read['ledgerman:json'] as Json) : read
  const text = printJson(inside)
  if (/\\u0000/.test(text.replaceAll('\\\\', '')))
    throw new ValueError('JSON without U+0000, which PostgreSQL cannot store')
  return text
}

function isEnvelope(value: Json): value is { 'ledgerman:json': Json } {
  return (
    value !== null &&
    typeof value === 'object' &&
    !Array.isArray(value) &&
    !(value instanceof RawJson) &&
    Object.keys(value).length === 1 &&
    'ledgerman:json' in value
  )
}
