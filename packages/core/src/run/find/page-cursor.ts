import { createCipheriv, createDecipheriv, createHmac, randomBytes } from 'node:crypto'
import { LedgermanProblem } from '@ledgerman/contract'
import type { Mapping } from '../../mapping/mapping.js'

/** Where a page ended: the last row's values of the order, or how many rows came before. */
export type Place = { values: (string | null)[] } | { offset: number }

const CIPHER = 'aes-256-gcm'
const NONCE_BYTES = 12
const TAG_BYTES = 16

/**
 * The place a page ends at, for the caller to hand back with the same order. It is encrypted (NIST SP 800-38D): it stands in addresses, which
 * others keep, and the values of the order may be sensitive.
 *
 * @param key the service's own, the same for all instances
 */
export function writeCursor(key: Buffer, order: string, place: Place): string {
  const content = 'values' in place ? { o: order, v: place.values } : { o: order, n: place.offset }
  const nonce = randomBytes(NONCE_BYTES)
  const cipher = createCipheriv(CIPHER, cursorKey(key), nonce)
  const sealed = Buffer.concat([cipher.update(JSON.stringify(content)), cipher.final()])
  return Buffer.concat([nonce, cipher.getAuthTag(), sealed]).toString('base64url')
}

/** @throws LedgermanProblem request-invalid for what is not a cursor of this mapping in this order. */
export function readCursor(key: Buffer, mapping: Mapping, order: string, cursor: string): Place {
  const { o, v, n } = parse(key, cursor)
  if (o === order && typeof n === 'number' && Number.isSafeInteger(n) && n >= 0) return { offset: n }
  if (o === order && Array.isArray(v) && v.every((value) => value === null || typeof value === 'string'))
    return { values: v as (string | null)[] }
  throw new LedgermanProblem(
    'request-invalid',
    `after: expected the "next" of an earlier page of ${mapping.name} in the same order, got "${cursor}".`,
    { where: 'after' },
  )
}

function parse(key: Buffer, cursor: string): { o?: unknown; v?: unknown; n?: unknown } {
  try {
    const bytes = Buffer.from(cursor, 'base64url')
    const decipher = createDecipheriv(CIPHER, cursorKey(key), bytes.subarray(0, NONCE_BYTES), {
      authTagLength: TAG_BYTES,
    })
    decipher.setAuthTag(bytes.subarray(NONCE_BYTES, NONCE_BYTES + TAG_BYTES))
    const text = decipher.update(bytes.subarray(NONCE_BYTES + TAG_BYTES), undefined, 'utf8') + decipher.final('utf8')
    const content: unknown = JSON.parse(text)
    return content !== null && typeof content === 'object' ? content : {}
  } catch {
    return {}
  }
}

const keys = new WeakMap<Buffer, Buffer>()

/** A key for this use alone, made out of the service's. */
function cursorKey(key: Buffer): Buffer {
  let own = keys.get(key)
  if (!own) keys.set(key, (own = createHmac('sha256', key).update('page cursor').digest()))
  return own
}
