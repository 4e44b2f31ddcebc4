import { isConnectionError } from './connection-error.js'
import { isDatabaseError } from './database-error.js'
import type { Queryable } from './queryable.js'

/**
 * Whether a table that the transaction has used was rewritten (ALTER TABLE, TRUNCATE) between its snapshot and its first use: to the snapshot it
 * is empty, and PostgreSQL says nothing of it ("Caveats" in "Concurrency Control"). `pg_class` is read as of the snapshot; which file
 * the table has now is told without one.
 */
const IS_BLIND_SQL = `select exists (select from pg_catalog.pg_locks l join pg_catalog.pg_class c on c.oid = l.relation
  where l.pid = pg_catalog.pg_backend_pid() and l.locktype = 'relation' and c.relkind in ('r', 'm')
    and c.relfilenode <> 0 and pg_catalog.pg_relation_filenode(c.oid) <> c.relfilenode)`

/**
 * Sees to it that nothing is concluded from rows that a transaction cannot see. One that is `read committed` has a new snapshot with each
 * statement, taken when its tables are locked.
 *
 * @throws TableRewritten
 */
export async function assertSeesTables(session: Pick<Queryable, 'query'>, isolation: string): Promise<void> {
  if (isolation === 'read committed') return
  const { rows } = await session.query(IS_BLIND_SQL)
  if (rows[0]?.[0] === 't') throw new TableRewritten()
}

/** What ends a transaction: a refusal for what was found, where all rows could be seen; else that they could not. */
export async function refusalOrBlind(
  session: Pick<Queryable, 'query'>,
  isolation: string,
  refusal: unknown,
): Promise<unknown> {
  // What the server refused, it refused for rows that are there.
  if (isDatabaseError(refusal) || isConnectionError(refusal)) return refusal
  return assertSeesTables(session, isolation).then(
    () => refusal,
    (error: unknown) => (error instanceof TableRewritten ? error : refusal),
  )
}

/** With the SQLSTATE of a serialization failure: done again, the transaction sees the rows. */
export class TableRewritten extends Error {
  readonly severity = 'ERROR'
  readonly code = '40001'

  constructor() {
    super('a table was rewritten (ALTER TABLE) after the transaction had taken its view of the rows')
  }
}
