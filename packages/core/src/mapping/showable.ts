import { sentOfCast } from '../values/cast-text.js'
import { digestOfSent, isDigest } from '../values/digest.js'
import type { Property } from './mapping.js'

/** A value in text form as it may be shown and kept: a sensitive one only as its digest. */
export function showable(
  { digestKey }: { digestKey: Buffer },
  { sensitive, column }: Property,
  text: string | null,
): string | null {
  return sensitive && text !== null ? digestOfSent(digestKey, text, column.type) : text
}

/** A value of an image in the book as PostgreSQL sends it; a digest as it is. */
export function textOfImage({ sensitive, column }: Property, text: string | null): string | null {
  return sensitive || isDigest(text) ? text : sentOfCast(text, column.type)
}
