import type { ColumnType } from './column-type.js'

// The book has values as `value::text` gives them. For three kinds of type that is not the text which PostgreSQL sends (the casts to text with a
// function of their own in pg_cast): a boolean is written out, an address always has its mask, and a char(n) ends before its blanks.

/** What `value::text` gives, of the text that PostgreSQL sends for the value. */
export function castOfSent(sent: string | null, { name }: ColumnType): string | null {
  if (sent === null) return null
  if (name === 'bool') return sent.startsWith('t') ? 'true' : 'false'
  if (name === 'inet') return sent.includes('/') ? sent : `${sent}/${wholeMask(sent)}`
  return name === 'bpchar' ? sent.replace(/(?<! ) +$/, '') : sent
}

/** What PostgreSQL sends, of what `value::text` gives; without the blanks that a char of no length ends with, which nobody kept. */
export function sentOfCast(cast: string | null, { name, length }: ColumnType): string | null {
  if (cast === null) return null
  if (name === 'bool') return cast.startsWith('t') ? 't' : 'f'
  if (name === 'inet') return cast.endsWith(`/${wholeMask(cast)}`) ? cast.slice(0, cast.lastIndexOf('/')) : cast
  return name === 'bpchar' && length !== null ? cast + ' '.repeat(Math.max(0, length - [...cast].length)) : cast
}

/** The mask of an address that is one host: PostgreSQL leaves it out. */
function wholeMask(address: string): number {
  return address.includes(':') ? 128 : 32
}
