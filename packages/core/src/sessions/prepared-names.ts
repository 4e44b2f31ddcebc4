import { LRUCache } from 'lru-cache'
import type pg from 'pg'

/** How many statements a session has prepared at once: each takes memory of the server for as long as it is. */
const MOST_A_SESSION = 250

/** Of so many statements it is known that they were asked before. */
const MOST_KNOWN = 5_000

interface Internals {
  connection: { parsedStatements: Record<string, string> }
}

/**
 * Which statements a session prepares: those that come a second time, and no more than a session should hold. The one that was not
 * asked for longest is given up for the next.
 */
export class PreparedNames {
  readonly #asked = new LRUCache<string, true>({ max: MOST_KNOWN })
  readonly #bySession = new WeakMap<pg.PoolClient, LRUCache<string, true>>()

  /** The name to send a statement under; undefined where it is not prepared. */
  nameFor(client: pg.PoolClient, name: string | undefined): string | undefined {
    if (name === undefined || name === '') return undefined
    if (!this.#asked.get(name)) {
      this.#asked.set(name, true)
      return undefined
    }
    let own = this.#bySession.get(client)
    if (!own) {
      own = new LRUCache<string, true>({ max: MOST_A_SESSION, dispose: (_, gone) => deallocate(client, gone) })
      this.#bySession.set(client, own)
    }
    if (!own.get(name)) own.set(name, true)
    return name
  }
}

/** Sent ahead of the statement that needs the room. */
function deallocate(client: pg.PoolClient, name: string): void {
  const { connection } = client as unknown as Internals
  const text = connection.parsedStatements[name]
  if (text === undefined) return
  delete connection.parsedStatements[name]
  client.query(`deallocate "${name}"`).catch(() => {
    // Nothing is given up in a failed transaction: it is prepared still.
    connection.parsedStatements[name] = text
  })
}
