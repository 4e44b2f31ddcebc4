import type { StepDefinition } from '@ledgerman/contract'
import type { TestDatabase } from './databases.js'

/** A step at which two runs wait for one another, where they are begun by `meeting`. */
export const MEETS: StepDefinition = { sql: 'select pg_advisory_xact_lock_shared(7)' }

const AT_THE_DOOR = `select 1 from pg_locks
  where locktype = 'advisory' and objid = 7 and not granted and database = (select oid from pg_database where datname = current_database())`

/** Begins two runs, and lets them on once both are at their step `MEETS`: by the clock alone they would not meet on a busy machine. */
export async function meeting<T>(database: TestDatabase, begin: () => T): Promise<T> {
  const door = await database.session()
  await door.query('select pg_advisory_lock(7)')
  const runs = begin()
  while ((await database.sql(AT_THE_DOOR)).length < 2) await new Promise((resolve) => setTimeout(resolve, 10))
  await door.end()
  return runs
}
