import { toTablePath, type TablePath } from '@ledgerman/contract'
import { readTables } from './read-catalogue.js'
import type { Table } from './table.js'
import { isConnectionError } from '../../sessions/connection-error.js'
import { isDatabaseError } from '../../sessions/database-error.js'
import type { Queryable } from '../../sessions/queryable.js'

/** How many tables one statement reads at most, and how many statements are on the way at once. */
const MOST_TOGETHER = 200
const MOST_ON_THE_WAY = 2

interface Wanted {
  name: TablePath
  read: Promise<Table | undefined>
  resolve: (table: Table | undefined) => void
  reject: (error: unknown) => void
}

/**
 * Reads tables from the catalogue, those that are asked for at the same time by one statement: a hundred take hardly longer than ten.
 * So nobody who needs many has the others wait for a session.
 */
export class TableReader {
  #wanted = new Map<string, Wanted>()
  #onTheWay = 0

  constructor(readonly session: Pick<Queryable, 'query'>) {}

  /** @returns undefined where there is no such table. @throws what the statement fails with */
  read(name: TablePath): Promise<Table | undefined> {
    const path = toTablePath(name.schema, name.name)
    const wanted = this.#wanted.get(path)
    if (wanted) return wanted.read
    let settle: Pick<Wanted, 'resolve' | 'reject'> | undefined
    const read = new Promise<Table | undefined>((resolve, reject) => (settle = { resolve, reject }))
    if (settle) this.#wanted.set(path, { name, read, ...settle })
    if (this.#wanted.size === 1) this.#soon()
    return read
  }

  /** All who ask in this turn of the event loop go together. */
  #soon(): void {
    setImmediate(() => {
      while (this.#wanted.size > 0 && this.#onTheWay < MOST_ON_THE_WAY) {
        const group = [...this.#wanted].slice(0, MOST_TOGETHER)
        for (const [path] of group) this.#wanted.delete(path)
        this.#onTheWay++
        void this.#readGroup(group.map(([, wanted]) => wanted)).then(() => {
          this.#onTheWay--
          this.#soon()
        })
      }
    })
  }

  async #readGroup(group: readonly Wanted[]): Promise<void> {
    try {
      const tables = await readTables(
        this.session,
        group.map(({ name }) => name),
      )
      const found = new Map(tables.map((table) => [table.path, table]))
      for (const { name, resolve } of group) resolve(found.get(toTablePath(name.schema, name.name)))
    } catch (error) {
      // One of them may be held by somebody: the others are told of as they are.
      if (group.length > 1 && isDatabaseError(error) && !isConnectionError(error))
        for (const wanted of group) await this.#readGroup([wanted])
      else for (const { reject } of group) reject(error)
    }
  }
}
