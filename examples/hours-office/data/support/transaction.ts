// Written by Ledgerman: the transaction boundary.
import type { ClientBase, Pool } from 'pg'
import {
  ask,
  endsConnection,
  explained,
  isDatabaseError,
  isPool,
  isRetryable,
  isStalePlan,
  type Db,
  type Row,
} from './ask.js'
import { beginsWith, beginText } from './begin.js'
import { DataError, OutcomeUnknown, RetriesExhausted } from './errors.js'
import { formsOf, type Limits } from './limits.js'

/**
 * Runs `work` in a transaction: one of its own on a pool, the caller's on a client. On a pool a serialization failure or deadlock
 * is tried again, after a pause that differs from one caller to the next.
 *
 * @throws DataError, and what `work` throws; then nothing was changed, but for OutcomeUnknown
 */
export async function inTransaction<T>(db: Db, limits: Limits, work: (client: ClientBase) => Promise<T>): Promise<T> {
  if (!isPool(db)) return insideOf(db, limits, work)
  let isFresh = false
  for (let attempt = 0; ; attempt++) {
    try {
      return await once(db, limits, work)
    } catch (error) {
      if (isStalePlan(error) && !isFresh) {
        isFresh = true
        attempt--
        continue
      }
      if (!isRetryable(error)) throw error
      if (attempt >= limits.retries)
        throw new RetriesExhausted(`Every attempt of ${attempt + 1} ended in a serialization failure or a deadlock.`, {
          cause: error,
        })
      await new Promise((resolve) => setTimeout(resolve, Math.random() * 10 * 2 ** attempt))
    }
  }
}

async function once<T>(pool: Pool, limits: Limits, work: (client: ClientBase) => Promise<T>): Promise<T> {
  const begin = (await beginsWith(pool, limits)) ? 'begin' : beginText(limits)
  const client = await pool.connect()
  let isBroken = true
  // A connection that breaks between two statements is noticed by the next; with nobody listening it would end the process.
  client.on('error', ignore)
  try {
    await client.query(begin)
    // At `read committed` each statement has a view of its own.
    const result = await (limits.isolation === 'read committed' ? work(client) : withAllInView(client, work))
    await commit(client)
    isBroken = false
    return result
  } catch (error) {
    if (!(error instanceof OutcomeUnknown))
      isBroken = await client.query('rollback').then(
        () => false,
        () => true,
      )
    throw explained(error)
  } finally {
    if (!isBroken) client.off('error', ignore)
    client.release(isBroken)
  }
}

function ignore(): void {}

/** Tables that the transaction has used and whose file is another than its view of the rows knows. */
const OUT_OF_VIEW = `select from pg_catalog.pg_locks l join pg_catalog.pg_class c on c.oid = l.relation
where l.pid = pg_catalog.pg_backend_pid() and l.locktype = 'relation' and c.relkind in ('r', 'm')
  and c.relfilenode <> 0 and pg_catalog.pg_relation_filenode(c.oid) <> c.relfilenode`

/**
 * A table that ALTER TABLE rewrote after the transaction took its view of the rows, and before it used the table, is empty to that view, and PostgreSQL
 * says nothing of it. Such a transaction ends as in a serialization failure.
 */
async function withAllInView<T>(client: ClientBase, work: (client: ClientBase) => Promise<T>): Promise<T> {
  const isInView = async () => (await client.query(OUT_OF_VIEW)).rowCount === 0
  let result: T
  try {
    result = await work(client)
  } catch (error) {
    if (await isInView().catch(() => true)) throw error
    throw rewritten()
  }
  if (await isInView()) return result
  throw rewritten()
}

function rewritten(): Error {
  const message = 'a table was rewritten (ALTER TABLE) after the transaction had taken its view of the rows'
  return Object.assign(new Error(message), { severity: 'ERROR', code: '40001' })
}

/**
 * Runs one statement that writes one record, or nothing, and makes of its rows what `tell` does. It is a transaction of its own where each connection of
 * the pool begins with the limits; else it is run in one.
 *
 * @throws DataError; then nothing was changed, but for OutcomeUnknown
 */
export async function inOneStatement<T>(
  db: Db,
  limits: Limits,
  text: string,
  values: () => readonly (string | null)[],
  tell: (rows: Row[]) => T,
): Promise<T> {
  const rows = await askAlone(db, limits, text, values())
  if (rows) return tell(rows)
  return inTransaction(db, limits, async (client) => tell(await ask(client, text, values())))
}

/**
 * Runs one statement as a transaction of its own.
 *
 * @returns its rows; undefined where it has to be run in one that is begun: then nothing was done
 * @throws DataError; then nothing was changed, but for OutcomeUnknown
 */
export async function askAlone(
  db: Db,
  limits: Limits,
  text: string,
  values: readonly (string | null)[],
): Promise<Row[] | undefined> {
  if (limits.isolation !== 'read committed' || !isPool(db) || !(await beginsWith(db, limits))) return undefined
  const client = await db.connect()
  let isBroken = true
  client.on('error', ignore)
  try {
    const rows = await ask(client, text, values)
    isBroken = false
    return rows
  } catch (error) {
    const cause = error instanceof DataError ? error.cause : error
    if (!isDatabaseError(cause) || endsConnection(cause))
      throw new OutcomeUnknown('The connection broke while the change was being made. Load the record to find out.', {
        cause,
      })
    isBroken = false
    if (isRetryable(cause) || isStalePlan(cause)) return undefined
    throw error
  } finally {
    if (!isBroken) client.off('error', ignore)
    client.release(isBroken)
  }
}

/** COMMIT of a failed transaction succeeds as a ROLLBACK: only its tag tells. */
async function commit(client: ClientBase): Promise<void> {
  let tag: string
  try {
    tag = (await client.query('commit')).command
  } catch (error) {
    if (isDatabaseError(error) && !endsConnection(error)) throw error
    throw new OutcomeUnknown(
      'The connection broke while the change was being committed. Load the record to find out.',
      {
        cause: error,
      },
    )
  }
  if (tag !== 'COMMIT') throw new Error(`COMMIT was answered with ${tag}: nothing was changed`)
}

/** In somebody else's transaction the settings are put back as they were. */
async function insideOf<T>(client: ClientBase, limits: Limits, work: (client: ClientBase) => Promise<T>): Promise<T> {
  const forms = formsOf(limits)
  if (forms.length === 0) return work(client)
  const names = forms.map(([name]) => name)
  const kept = names.map((name) => `pg_catalog.current_setting('${name}')`)
  const set = forms.map(([name, value]) => `pg_catalog.set_config('${name}', '${value}', true)`)
  const [before = []] = await ask(client, `select ${[...kept, ...set].join(', ')}`, [])
  const result = await work(client)
  await ask(
    client,
    `select ${names.map((name, at) => `pg_catalog.set_config('${name}', $${at + 1}, true)`).join(', ')}`,
    before.slice(0, names.length),
  )
  return result
}
