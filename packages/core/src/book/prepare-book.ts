import { type BookPrepared, LedgermanProblem } from '@ledgerman/contract'
import { isDatabaseError } from '../sessions/database-error.js'
import { inTransaction } from '../target/in-transaction.js'
import type { Target } from '../target/target.js'
import { OWN_NAMES_SQL } from '../sessions/session-settings.js'
import type { Queryable } from '../sessions/queryable.js'
import { BOOK_DDL, BOOK_UPGRADES, BOOK_VERSION } from './book-schema.js'

// Two callers preparing at once take turns: the number only has to be the same for both.
const PREPARE_LOCK = 4_680_100

const LOCK_WAIT_SQL = `select pg_catalog.set_config('lock_timeout', $1, true)`

// Read from the catalogue's tables: what a session has cached of them may be older than the lock that it waited for.
const HAS_BOOK_TABLE_SQL = `select exists (select from pg_catalog.pg_class c join pg_catalog.pg_namespace n on n.oid = c.relnamespace
  where n.nspname = 'ledgerman' and c.relname = 'book')`

/**
 * Prepares the book in a target: creates the schema `ledgerman` and what belongs in it. Again is harmless.
 *
 * @throws LedgermanProblem target-denied where the role may not create a schema, with the grant that is missing.
 */
export async function prepareBook(target: Target): Promise<BookPrepared> {
  let isNew = false
  try {
    return await inTransaction(target, async (session) => {
      // Whoever comes second waits for as long as it takes the first, and a statement may; tables are waited for as ever.
      await session.query(LOCK_WAIT_SQL, ['0'])
      await session.query('select pg_catalog.pg_advisory_xact_lock($1::bigint)', [String(PREPARE_LOCK)])
      await session.query(LOCK_WAIT_SQL, [String(target.limits.lockWaitMs)])
      // A view keeps the operators that were found when it was made: they have to be PostgreSQL's own.
      await session.query(OWN_NAMES_SQL)
      const { rows } = await session.query(HAS_BOOK_TABLE_SQL)
      if (rows[0]?.[0] === 't') return { target: target.name, prepared: 'already', created: await upgrade(session) }
      isNew = true
      for (const { sql } of BOOK_DDL) await session.query(sql)
      await session.query('insert into ledgerman.book (version) values ($1)', [String(BOOK_VERSION)])
      return { target: target.name, prepared: 'now', created: BOOK_DDL.map(({ name }) => name) }
    })
  } catch (error) {
    if (isNew && isDatabaseError(error) && error.code === '42501') {
      throw new LedgermanProblem(
        'target-denied',
        `The role of ${target.name} may not create the book: ${error.message}. Let the database's owner run: grant create on database … to that role.`,
        { target: target.name },
        { cause: error },
      )
    }
    throw target.explain(error)
  } finally {
    // It may have been made anew since it was last used.
    target.forgetBook()
  }
}

/** Brings a book of an earlier version up to date. @returns what was made. */
async function upgrade(session: Queryable): Promise<string[]> {
  const { rows } = await session.query('select max(version) from ledgerman.book')
  const made: string[] = []
  for (let version = Number(rows[0]?.[0] ?? BOOK_VERSION) + 1; version <= BOOK_VERSION; version++) {
    for (const step of BOOK_UPGRADES[version] ?? []) {
      const named = BOOK_DDL.find(({ name }) => name === step)
      await session.query(named?.sql ?? step)
      if (named) made.push(named.name)
    }
    await session.query('insert into ledgerman.book (version) values ($1)', [String(version)])
  }
  return made
}
