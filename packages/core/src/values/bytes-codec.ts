import type { Json } from '@ledgerman/contract'
import { ValueError } from './value-error.js'

export function bytesFromText(text: string): Json {
  return Buffer.from(text.slice(2), 'hex').toString('base64')
}

export function bytesToText(value: Json): string {
  const bytes = typeof value === 'string' ? Buffer.from(value, 'base64') : undefined
  // Node skips what is not base64; only text that comes back the same was base64 throughout (RFC 4648, section 4).
  if (bytes === undefined || bytes.toString('base64') !== value) throw new ValueError('bytes as a base64 string')
  return `\\x${bytes.toString('hex')}`
}
