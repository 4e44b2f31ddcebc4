import { LRUCache } from 'lru-cache'
import { isDatabaseError } from '../sessions/database-error.js'
import type { Rows } from '../sessions/queryable.js'

/** How many statements are known to stand in the book. */
const MOST_KNOWN_STATEMENTS = 10_000

/** Whether the book is there, and of this version: what came last is. */
export const HAS_BOOK_SQL = `to_regclass('ledgerman.seal_open') is not null`

/** After how long it is looked whether it is still the same book, in milliseconds. */
const BOOK_AGE_MS = 10_000

/** The number of the table that statements stand in, by which another book is known: one that was made anew, or restored. */
const WHICH_BOOK_SQL = `select ${HAS_BOOK_SQL}, to_regclass('ledgerman.statement')::oid`

/** What is known of a target's book without asking again. */
export class KnownBook {
  /** Statements whose text stands in it. */
  readonly statements = new LRUCache<string, true>({ max: MOST_KNOWN_STATEMENTS })
  /** Which book it is; null where there is none. Kept once there is one; while it is asked, all who want to know wait for the one answer. */
  #which: Promise<string | null> | undefined
  /** Milliseconds since the epoch. */
  #askedAt = 0

  constructor(readonly read: (text: string) => Promise<Rows>) {}

  async isPrepared(): Promise<boolean> {
    const isKnown = this.#which !== undefined
    const asked = (this.#which ??= this.#ask())
    const which = await asked.catch((error: unknown) => {
      if (this.#which === asked) this.#which = undefined
      throw error
    })
    if (which === null && this.#which === asked) this.#which = undefined
    if (isKnown && performance.now() - this.#askedAt > BOOK_AGE_MS) void this.#lookAgain(which)
    return which !== null
  }

  /** For when something shows that the book is gone, or may be another. */
  forget(): void {
    this.#which = undefined
    this.statements.clear()
  }

  async #ask(): Promise<string | null> {
    this.#askedAt = performance.now()
    const { rows } = await this.read(WHICH_BOOK_SQL)
    const [isThere, which = null] = rows[0] ?? []
    return isThere === 't' ? which : null
  }

  async #lookAgain(known: string | null): Promise<void> {
    const which = await this.#ask().catch(() => known)
    if (which !== known) this.forget()
  }
}

/** Whether the schema of the book, or something in it, was dropped while this process took it for prepared. */
export function isMissingBook(error: unknown): boolean {
  return (
    isDatabaseError(error) && ['42P01', '3F000', '42883'].includes(error.code) && /\bledgerman\b/.test(error.message)
  )
}
