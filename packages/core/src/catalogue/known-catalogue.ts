import { createHash } from 'node:crypto'
import { LRUCache } from 'lru-cache'
import { isProblem, LedgermanProblem, parseTablePath, toTablePath, type TablePath } from '@ledgerman/contract'
import { readCatalogue, readType } from './read-catalogue.js'
import type { Table } from './table.js'
import { TableReader } from './table-reader.js'
import { isDatabaseError } from '../sessions/database-error.js'
import type { ColumnType } from '../values/column-type.js'
import type { Queryable } from '../sessions/queryable.js'

/** After how long a table is read from the catalogue again, in milliseconds: an alteration is noticed by then at the latest. */
const CATALOGUE_AGE_MS = 10_000

/**
 * How many tables and types are kept. With a table goes what was built on it: some 100 kB where its mapping is in use
 * (docs/operations.md).
 */
const MOST_TABLES = 500
const MOST_TYPES = 1_000

interface KnownTable {
  table: Table
  /** Of all it says but the number of rows. */
  digest: string
  /** Milliseconds since the epoch. */
  readAt: number
}

/** For how long a table that is known is read again before the old reading is taken, in milliseconds. */
const REREAD_MS = 100

/** What was asked for, or what stands in for it where it takes too long or fails for being waited for. */
async function orMeanwhile<T>(asked: Promise<T>, meanwhile: T): Promise<T> {
  let timer: NodeJS.Timeout | undefined
  const late = new Promise<T>((resolve) => (timer = setTimeout(resolve, REREAD_MS, meanwhile)))
  const answered = asked.catch((error: unknown) => {
    if (isProblem(error, 'lock-timeout') || isProblem(error, 'time-limit')) return meanwhile
    throw error
  })
  try {
    return await Promise.race([answered, late])
  } finally {
    clearTimeout(timer)
    answered.catch(() => undefined)
  }
}

/** What is known of a target's tables and types. Everybody who asks for a table while it is being read gets that reading. */
export class KnownCatalogue {
  readonly #tables = new LRUCache<string, KnownTable>({ max: MOST_TABLES })
  readonly #types = new LRUCache<string, ColumnType>({ max: MOST_TYPES })
  #reading = new Map<string, Promise<Table>>()
  readonly #reader: TableReader

  constructor(
    readonly target: string,
    /** Asks with an empty search path. */
    readonly query: Queryable['query'],
    /** Asks with the role's own search path, for names as people write them. */
    readonly queryAsRole: Queryable['query'],
    readonly explain: (error: unknown) => unknown,
  ) {
    this.#reader = new TableReader(this)
  }

  /** @throws LedgermanProblem not-found */
  async table(path: string): Promise<Table> {
    const current = this.#freshTable(path)
    if (current) return current
    const name = parseTablePath(path)
    const normal = toTablePath(name.schema, name.name)
    const fresh = this.#freshTable(normal)
    if (fresh) return fresh
    const reading = this.#reading.get(normal) ?? this.#read(normal, name)
    const old = this.#tables.get(normal)
    // What was forgotten is read again, whatever it takes; what has only grown old serves while somebody holds the table.
    return old && old.readAt > 0 ? orMeanwhile(reading, old.table) : reading
  }

  /** As `table`, read afresh whatever is known: for those who look at a table that they may just have altered. */
  tableNow(path: string): Promise<Table> {
    const name = parseTablePath(path)
    const normal = toTablePath(name.schema, name.name)
    const old = this.#tables.get(normal)
    const reading = this.#read(normal, name)
    return old ? orMeanwhile(reading, old.table) : reading
  }

  async type(name: string): Promise<ColumnType | undefined> {
    const known = this.#types.get(name)
    if (known) return known
    const type = await readType(this, this.queryAsRole, name).catch((error: unknown) => {
      // What is no type name at all is none that is known.
      if (isDatabaseError(error) && error.code.startsWith('42')) return undefined
      throw this.explain(error)
    })
    if (type) this.#types.set(name, type)
    return type
  }

  async tables(): Promise<Table[]> {
    const tables = await readCatalogue(this).catch((error: unknown) => {
      throw this.explain(error)
    })
    return tables.map((table) => this.#remember(table))
  }

  forget(): void {
    for (const known of this.#tables.values()) known.readAt = 0
    this.#types.clear()
    // A reading that is on its way may have begun before the alteration.
    this.#reading = new Map()
  }

  #freshTable(path: string): Table | undefined {
    const known = this.#tables.get(path)
    const age = known ? Date.now() - known.readAt : Infinity
    if (!known || age >= CATALOGUE_AGE_MS) return undefined
    // One that is in use is read again before its time is over, so that nobody waits for it.
    if (age >= CATALOGUE_AGE_MS / 2 && !this.#reading.has(path))
      this.#read(path, parseTablePath(path)).catch(() => undefined)
    return known.table
  }

  #read(path: string, name: TablePath): Promise<Table> {
    const all = this.#reading
    const reading = this.#reader
      .read(name)
      .catch((error: unknown) => {
        throw this.explain(error)
      })
      .then((table) => {
        if (table) return all === this.#reading ? this.#remember(table) : table
        this.#tables.delete(path)
        throw new LedgermanProblem('not-found', `There is no table ${path} in ${this.target} that its role can see.`, {
          table: path,
        })
      })
      .finally(() => all.delete(path))
    all.set(path, reading)
    return reading
  }

  /** Keeps the object of before where nothing was altered, so that what was built on it stays of use. */
  #remember(table: Table): Table {
    const said = JSON.stringify({ ...table, approximateRows: null, approximateBytes: null })
    const digest = createHash('sha256').update(said).digest('base64')
    const known = this.#tables.get(table.path)
    const kept = known?.digest === digest ? known.table : table
    this.#tables.set(table.path, { table: kept, digest, readAt: Date.now() })
    return kept
  }
}
