import { LedgermanProblem, parseTablePath, toTablePath } from '@ledgerman/contract'
import { KeptReadings } from './kept-readings.js'
import { findNearestTable, readCatalogue, readType } from './read-catalogue.js'
import type { Table } from './table.js'
import { TableReader } from './table-reader.js'
import { isDatabaseError } from '../../sessions/database-error.js'
import type { ColumnType } from '../../values/column-type.js'
import type { Queryable } from '../../sessions/queryable.js'

/**
 * How many tables and types are kept. With a table goes what was built on it: some 100 kB where its mapping is in use
 * (docs/operations.md).
 */
const MOST_TABLES = 500
const MOST_TYPES = 1_000

/** What is known of a target's tables and types. */
export class KnownCatalogue {
  readonly #tables: KeptReadings<Table>
  readonly #types: KeptReadings<ColumnType>

  constructor(
    readonly target: string,
    /** Asks with an empty search path. */
    readonly query: Queryable['query'],
    /** Asks with the role's own search path, for names as people write them. */
    readonly queryAsRole: Queryable['query'],
    readonly explain: (error: unknown) => unknown,
  ) {
    const reader = new TableReader(this)
    const explained = (error: unknown) => {
      throw this.explain(error)
    }
    this.#tables = new KeptReadings(
      MOST_TABLES,
      (path) => reader.read(parseTablePath(path)).catch(explained),
      ({ approximateRows, approximateBytes }) => ({ approximateRows, approximateBytes }),
    )
    this.#types = new KeptReadings(
      MOST_TYPES,
      (name) =>
        readType(this, this.queryAsRole, name).catch((error: unknown) =>
          // What is no type name at all is none that is known.
          isDatabaseError(error) && error.code.startsWith('42') ? undefined : explained(error),
        ),
      () => ({}),
    )
  }

  /** @throws LedgermanProblem not-found */
  async table(path: string): Promise<Table> {
    return this.#tables.fresh(path) ?? this.#there(path, (normal) => this.#tables.get(normal))
  }

  /** As `table`, read afresh whatever is known: for those who look at a table that they may just have altered. */
  tableNow(path: string): Promise<Table> {
    return this.#there(path, (normal) => this.#tables.now(normal))
  }

  async #there(path: string, find: (normal: string) => Promise<Table | undefined>): Promise<Table> {
    const { schema, name } = parseTablePath(path)
    const normal = toTablePath(schema, name)
    const table = await find(normal)
    if (table) return table
    const nearest = await findNearestTable(this, { schema, name }).catch((error: unknown) => {
      throw this.explain(error)
    })
    const hint = nearest === undefined ? '' : ` Did you mean ${nearest}?`
    throw new LedgermanProblem(
      'not-found',
      `There is no table ${normal} in ${this.target} that its role can see.${hint}`,
      {
        table: normal,
      },
    )
  }

  /** The type of that name, such as `numeric` or `text[]`; undefined where there is none. */
  type(name: string): Promise<ColumnType | undefined> {
    return this.#types.get(name)
  }

  async tables(): Promise<Table[]> {
    const tables = await readCatalogue(this).catch((error: unknown) => {
      throw this.explain(error)
    })
    return tables.map((table) => this.#tables.keep(table.path, table))
  }

  /** Reads the tables and types again that were used since then, in milliseconds of `performance.now`. @returns whether one was altered */
  async lookAgain(since: number): Promise<boolean> {
    const looked = await Promise.all([this.#tables.lookAgain(since), this.#types.lookAgain(since)])
    return looked.includes(true)
  }

  forget(): void {
    this.#tables.forget()
    this.#types.forget()
  }
}
