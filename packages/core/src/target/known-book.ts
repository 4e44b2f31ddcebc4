import { LRUCache } from 'lru-cache'
import { isDatabaseError } from '../sessions/database-error.js'
import type { Rows } from '../sessions/queryable.js'

/** How many statements are known to stand in the book. */
const MOST_KNOWN_STATEMENTS = 10_000

/** Whether the book is there, and of this version: what came last is. */
export const HAS_BOOK_SQL = `to_regclass('ledgerman.seal_open') is not null`

/** What is known of a target's book without asking again. */
export class KnownBook {
  /** Statements whose text stands in it. */
  readonly statements = new LRUCache<string, true>({ max: MOST_KNOWN_STATEMENTS })
  /** Kept once it is true; while it is asked, all who want to know wait for the one answer. */
  #prepared: Promise<boolean> | undefined

  constructor(readonly read: (text: string) => Promise<Rows>) {}

  async isPrepared(): Promise<boolean> {
    const asked = (this.#prepared ??= this.read(`select ${HAS_BOOK_SQL}`).then(({ rows }) => rows[0]?.[0] === 't'))
    const isPrepared = await asked.catch((error: unknown) => {
      if (this.#prepared === asked) this.#prepared = undefined
      throw error
    })
    if (!isPrepared && this.#prepared === asked) this.#prepared = undefined
    return isPrepared
  }

  /** For when a statement shows that the book is gone. */
  forget(): void {
    this.#prepared = undefined
    this.statements.clear()
  }
}

/** Whether the schema of the book, or something in it, was dropped while this process took it for prepared. */
export function isMissingBook(error: unknown): boolean {
  return (
    isDatabaseError(error) && ['42P01', '3F000', '42883'].includes(error.code) && /\bledgerman\b/.test(error.message)
  )
}
