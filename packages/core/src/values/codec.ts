import type { Json } from '@ledgerman/contract'
import type { ColumnType, ElementType } from './column-type.js'

export type ScalarType = ColumnType | ElementType

/**
 * One direction each: `fromText` turns PostgreSQL's text form into the JSON form that docs/values.md lists, `toText` the
 * JSON form into a text that PostgreSQL reads as the same value. SQL NULL never reaches a codec.
 */
export interface Codec {
  fromText(text: string, type: ScalarType): Json
  /** @throws ValueError saying what was expected. */
  toText(value: Json, type: ScalarType): string
}
