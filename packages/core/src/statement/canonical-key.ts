import type { Mapping } from '../mapping/mapping.js'
import { DIGEST_DIGITS } from '../values/digest.js'
import { digestBySql } from './book-sql.js'

/** A sensitive part that is a digest already. */
const IS_DIGEST = `operator(pg_catalog.~) '^hmac:[0-9a-f]{${DIGEST_DIGITS}}$'`

/**
 * The SQL of a record's key as the book keeps it: each part read as its column's type and written as PostgreSQL writes it, so that a key
 * is found however it is spelled (another zone, upper case, padding). Sensitive parts become digests; those that are digests stay as they are.
 *
 * @param array the SQL of a text[] that holds the parts
 * @param pads where the padded keys of digests are bound; null where every sensitive part is a digest
 */
export function canonicalKeySql({ key }: Pick<Mapping, 'key'>, array: string, pads: string | null): string {
  const parts = key.map(({ sensitive, column }, at) => {
    const part = `(${array})[${at + 1}]`
    const written = `${part}::${column.type.comparable}::text`
    if (!sensitive) return written
    return pads === null ? part : `case when ${part} ${IS_DIGEST} then ${part} else ${digestBySql(written, pads)} end`
  })
  return `array[${parts.join(', ')}]::text[]`
}
