import type { Mapping } from '../mapping/mapping.js'

/**
 * The SQL of a record's key as the book keeps it: each part read as its column's type and written as PostgreSQL writes it, so that a key
 * is found however it is spelled (another zone, upper case, padding). Sensitive parts are digests, and stay as they are.
 *
 * @param array the SQL of a text[] that holds the parts
 */
export function canonicalKeySql({ key }: Pick<Mapping, 'key'>, array: string): string {
  const parts = key.map(({ sensitive, column }, at) => {
    const part = `(${array})[${at + 1}]`
    return sensitive ? part : `${part}::${column.type.comparable}::text`
  })
  return `array[${parts.join(', ')}]::text[]`
}
