import { AsyncLocalStorage } from 'node:async_hooks'
import { createHmac, randomUUID } from 'node:crypto'
import type { Row } from '../support/ask.js'

interface Settings {
  /** Who changes records, where nobody is named with `asActor`. */
  actor: string
  /** The key that digests of sensitive values are made with: that of the service, so that both write the same. */
  digestKey?: Buffer | undefined
}

let settings: Settings = { actor: 'code' }
const actors = new AsyncLocalStorage<{ actor: string; note: string | null }>()

/** Says once for the program who changes records. */
export function configureBook(given: Partial<Settings>): void {
  settings = { ...settings, ...given }
}

/** Runs `work` for somebody: entries name them, and have the note. */
export function asActor<T>(actor: string, work: () => Promise<T>, note: string | null = null): Promise<T> {
  return actors.run({ actor, note }, work)
}

export function current(): { actor: string; note: string | null } {
  return actors.getStore() ?? { actor: settings.actor, note: null }
}

/** A UUID of version 7 (RFC 9562, section 5.7): in order of time. */
export function newEntryId(): string {
  const time = Date.now().toString(16).padStart(12, '0')
  // Behind the time it is random, as one of version 4 is.
  return `${time.slice(0, 8)}-${time.slice(8)}-7${randomUUID().slice(15)}`
}

function digest(text: string): string {
  return `hmac:${createHmac('sha256', digestKey()).update(text).digest('hex').slice(0, 32)}`
}

function digestKey(): Buffer {
  if (settings.digestKey) return settings.digestKey
  throw new Error('A sensitive value is kept as a digest only: give configureBook the digestKey of the service.')
}

/** The inner and the outer padded key of RFC 2104, for digests that the database makes. */
export function digestPads(): string {
  const padded = Buffer.alloc(64)
  digestKey().copy(padded)
  const pad = (byte: number) => `"\\\\x${Buffer.from(padded.map((each) => each ^ byte)).toString('hex')}"`
  return `{${pad(0x36)},${pad(0x5c)}}`
}

/** Values as the book may keep them. */
export function kept(row: Row, sensitive: readonly boolean[]): (string | null)[] {
  return row.map((text, at) => (sensitive[at] && text !== null ? digest(text) : text))
}

export function arrayText(texts: readonly (string | null)[]): string {
  const items = texts.map((text) => (text === null ? 'NULL' : `"${text.replace(/["\\]/g, '\\$&')}"`))
  return `{${items.join(',')}}`
}
