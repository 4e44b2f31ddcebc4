import type { OwnSession } from '../sessions/own-session.js'

/** Up to so many rows are taken out of a table one by one, and need no statistics: less work than a new table is. */
const FEW_ROWS = 500

/** What was taken out of a table stays in its pages until the transaction ends: after so many rows a new one is quicker to read. */
const MOST_LEFT = 2_000

interface Made {
  columns: string
  rows: number
  /** How many rows were taken out of it before. */
  left: number
}

/**
 * The temporary tables that one transaction fills, over and over where it has many steps. A table costs PostgreSQL some ten rows of its
 * catalogue, and as many milliseconds as all the rest of a step of one row: it is made once for each list of columns.
 */
export class WorkTables {
  readonly #made = new Map<string, Made>()

  constructor(readonly session: OwnSession) {}

  /** Has the table there, with those columns and no row. `table` names it in `pg_temp`. */
  async empty(table: string, columns: string): Promise<void> {
    const made = this.#made.get(table)
    this.#made.delete(table)
    if (made?.columns === columns && made.rows <= FEW_ROWS && made.left <= MOST_LEFT) {
      await this.session.query(`delete from ${table}`)
      this.#made.set(table, { columns, rows: 0, left: made.left + made.rows })
      return
    }
    await this.session.query(`drop table if exists ${table}`)
    await this.session.query(`create temporary table ${table.slice('pg_temp.'.length)} (${columns})`)
    this.#made.set(table, { columns, rows: 0, left: 0 })
  }

  /** Tells the planner of the rows that were put into it, where they are many: a rough idea of them is enough, and costs a tenth. */
  async filled(table: string, rows: number): Promise<void> {
    const made = this.#made.get(table)
    if (made) made.rows = rows
    if (rows <= FEW_ROWS) return
    await this.session.query('set local default_statistics_target = 10')
    await this.session.query(`analyze ${table}`)
    await this.session.query('set local default_statistics_target to default')
  }
}
