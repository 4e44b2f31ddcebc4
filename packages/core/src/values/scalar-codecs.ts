import type { Json } from '@ledgerman/contract'
import { bytesFromText, bytesToText } from './bytes-codec.js'
import type { Codec } from './codec.js'
import type { ValueKind } from './column-type.js'
import { jsonFromText, jsonToText } from './json-codec.js'
import { bigintToText, floatFromText, floatToText, integerToText, moneyToText, numericToText } from './number-codec.js'
import { enumToText, stringToText } from './text-codec.js'
import { dateCodec, intervalToText, timeCodec, timestampCodec, timestamptzCodec } from './time-codec.js'
import { ValueError } from './value-error.js'

const asIs = (text: string): Json => text

const codecs: Record<Exclude<ValueKind, 'array'>, Codec> = {
  boolean: { fromText: (text) => text === 't' || text === 'true', toText: booleanToText },
  integer: { fromText: Number, toText: integerToText },
  float: { fromText: floatFromText, toText: floatToText },
  bigint: { fromText: asIs, toText: bigintToText },
  numeric: { fromText: asIs, toText: numericToText },
  money: { fromText: asIs, toText: moneyToText },
  text: { fromText: asIs, toText: stringToText },
  enum: { fromText: asIs, toText: enumToText },
  date: dateCodec,
  time: timeCodec,
  timestamp: timestampCodec,
  timestamptz: timestamptzCodec,
  interval: { fromText: asIs, toText: intervalToText },
  bytea: { fromText: bytesFromText, toText: bytesToText },
  json: { fromText: jsonFromText, toText: jsonToText },
  jsonb: { fromText: jsonFromText, toText: jsonToText },
}

/** The codec of a kind that is not an array. */
export function codecOf(kind: ValueKind): Codec {
  if (kind === 'array') throw new TypeError('an array is read element by element')
  return codecs[kind]
}

function booleanToText(value: Json): string {
  if (typeof value !== 'boolean') throw new ValueError('true or false')
  return value ? 't' : 'f'
}
