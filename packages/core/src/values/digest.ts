import { createHmac } from 'node:crypto'
import { castOfSent } from './cast-text.js'
import type { ColumnType } from './column-type.js'

/** How many hexadecimal digits of a digest are kept. */
export const DIGEST_DIGITS = 32

/**
 * What stands for a sensitive value wherever it may not be shown: HMAC-SHA-256 (RFC 2104) under the service's own key.
 * Equal values have equal digests, so that a change can still be told from none. `book-sql.ts` computes the same in the
 * database.
 */
export function digestText(key: Buffer, text: string): string {
  return `hmac:${createHmac('sha256', key).update(text).digest('hex').slice(0, DIGEST_DIGITS)}`
}

/** The same of a value as a session gives it: the database makes digests of what it casts to text. */
export function digestOfSent(key: Buffer, sent: string, type: ColumnType): string {
  return digestText(key, castOfSent(sent, type) ?? sent)
}

/** Whether a text stands for a sensitive value. */
export function isDigest(text: string | null | undefined): boolean {
  return typeof text === 'string' && /^hmac:[0-9a-f]{32}$/.test(text)
}
