import { randomBytes } from 'node:crypto'
import { readFileSync } from 'node:fs'
import { join } from 'node:path'
import pg from 'pg'
import { TRAPS_SQL } from './traps.js'

// The server that bin/test started, as superuser.
const ADMIN_URL = process.env['LEDGERMAN_TEST_PG'] ?? ''
const DEMO = join(import.meta.dirname, '../demo/observatory')
const WORKER_PASSWORD = 'only-for-tests'

/** A database of its own for one suite of tests. */
export interface TestDatabase {
  name: string
  /** As its owner, who may do anything in it. */
  ownerUrl: string
  /** As the role Ledgerman works with, which owns nothing. */
  url: string
  /** Runs statements as superuser. */
  sql(text: string, values?: unknown[]): Promise<Record<string, unknown>[]>
  /** A session of its own, for somebody else who holds locks. */
  session(): Promise<pg.Client>
  drop(): Promise<void>
}

/** Whether the server's machine has a language that its messages can be in. */
export function canSpeak(locale: string): Promise<boolean> {
  return withClient(urlOf('postgres'), (client) =>
    client.query(`select set_config('lc_messages', $1, false)`, [locale]).then(
      () => true,
      () => false,
    ),
  )
}

/** What an empty database is to be other than usual. */
export interface DatabaseNature {
  /** Where other than the server's own. */
  encoding?: string
  /** Whether the role that Ledgerman works with finds operators of others in its search path, each of which raises an error. */
  isTrapped?: boolean
}

/** An empty database. */
export async function makeDatabase({ encoding, isTrapped = false }: DatabaseNature = {}): Promise<TestDatabase> {
  if (!isTrapped) return make(encoding === undefined ? 'template1' : `template0 encoding '${encoding}' locale 'C'`)
  await ensureTemplate('traps', (client) => client.query(TRAPS_SQL))
  const database = await make('traps_template')
  await database.sql(`alter role ledgerman_worker in database ${database.name} set search_path = public, traps`)
  return database
}

/** A database with the observatory: copied from one that is loaded once a run. */
export async function makeObservatory(): Promise<TestDatabase> {
  await ensureTemplate('observatory', async (loading) => {
    for (const file of ['schema.sql', 'data.sql']) await loading.query(readFileSync(join(DEMO, file), 'utf8'))
    await loading.query('grant select, insert, update, delete on all tables in schema public to ledgerman_worker')
  })
  return make('observatory_template')
}

/** Makes the database `NAME_template`, unless somebody has. */
function ensureTemplate(name: string, fill: (client: pg.Client) => Promise<unknown>): Promise<void> {
  return withClient(urlOf('postgres'), async (client) => {
    await client.query('select pg_advisory_lock(4680)')
    const { rowCount } = await client.query('select 1 from pg_database where datname = $1', [`${name}_template`])
    if (rowCount === 1) return
    await ensureWorker(client)
    await client.query(`create database ${name}_loading`)
    await withClient(urlOf(`${name}_loading`), fill)
    await client.query(`alter database ${name}_loading rename to ${name}_template`)
  })
}

async function make(template: string): Promise<TestDatabase> {
  const name = `test_${randomBytes(6).toString('hex')}`
  await withClient(urlOf('postgres'), async (client) => {
    // Copying needs the template to itself; others wait their turn.
    await client.query('select pg_advisory_lock(4680)')
    await ensureWorker(client)
    await client.query(`create database ${name} template ${template}`)
    await client.query(`grant create on database ${name} to ledgerman_worker`)
  })
  const url = new URL(urlOf(name))
  Object.assign(url, { username: 'ledgerman_worker', password: WORKER_PASSWORD })
  return {
    name,
    ownerUrl: urlOf(name),
    url: url.toString(),
    sql: (text, values) =>
      withClient(urlOf(name), async (client) => (await client.query<Record<string, unknown>>(text, values)).rows),
    async session() {
      const client = new pg.Client({ connectionString: urlOf(name), application_name: 'somebody else' })
      await client.connect()
      return client
    },
    drop: () =>
      withClient(urlOf('postgres'), async (client) => void (await client.query(`drop database ${name} with (force)`))),
  }
}

async function ensureWorker(client: pg.Client): Promise<void> {
  const { rowCount } = await client.query(`select 1 from pg_roles where rolname = 'ledgerman_worker'`)
  if (rowCount === 0) {
    await client.query(`create role ledgerman_worker login password '${WORKER_PASSWORD}'`)
    await client.query('grant pg_read_all_stats, pg_signal_backend to ledgerman_worker')
  }
}

function urlOf(database: string): string {
  if (ADMIN_URL === '') throw new Error('LEDGERMAN_TEST_PG is not set: run the tests with bin/test')
  const url = new URL(ADMIN_URL)
  url.pathname = `/${database}`
  return url.toString()
}

async function withClient<T>(url: string, work: (client: pg.Client) => Promise<T>): Promise<T> {
  // A statement that waits for what never ends is told by its own line, not by the end of the test's time.
  const client = new pg.Client({ connectionString: url, lock_timeout: 30_000 })
  await client.connect()
  try {
    return await work(client)
  } finally {
    await client.end()
  }
}
