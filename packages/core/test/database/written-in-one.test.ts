import pg from 'pg'
import { emitCode } from '@ledgerman/core'
import { compileCode, type CompiledCode } from '../../../../testing/compiled-code.js'
import { openOwnTables, type OwnTables } from '../../../../testing/own-tables.js'

// Where each connection begins with the limits, a change of one record is one statement: the same comes of it as in a transaction.
let own: OwnTables
const compiled = new Map<string, CompiledCode>()
const DDL = `
create table swept (id integer primary key, code text not null unique, hours numeric(6,2) check (hours < 500), seen timestamptz, took interval, version integer not null default 1);
create table ruled (id integer primary key, hours numeric(6,2), version integer not null default 1);
insert into ruled values (1, 1);
create function say_stamp() returns trigger language plpgsql as $$ begin
  if new.code = 'none' then return null; end if;
  new.seen := '2026-03-01 00:00:00.5+01'; return new;
end $$;
create trigger stamped before insert or update on swept for each row execute function say_stamp();
create table slow (id integer primary key, hours numeric(6,2), version integer not null default 1);
insert into slow values (1, 1);
create function wait() returns trigger language plpgsql as $$ begin perform pg_sleep(60); return null; end $$;
create constraint trigger waits after update on slow deferrable initially deferred for each row execute function wait()`

beforeAll(async () => {
  own = await openOwnTables()
  const guard = { by: 'version', property: 'version' } as const
  const swept = await own.mapped('public.swept', DDL, { guard })
  const ruled = await own.mapped('public.ruled', '', {
    guard,
    rules: [{ that: 'hours < 100', otherwise: 'Too many.' }],
  })
  const all = [swept, ruled, await own.mapped('public.slow', '', { guard })]
  compiled.set('plain', await compileCode(emitCode(all, [])))
  compiled.set('booked', await compileCode(emitCode(all, [], true)))
})
afterAll(async () => {
  for (const { remove } of compiled.values()) remove()
  await own.close()
})

/** A pool, and how many round trips were made on it since last asked. */
function counting(options: pg.PoolConfig) {
  const pool = new pg.Pool({ connectionString: own.database.ownerUrl, max: 2, ...options })
  pool.on('error', () => undefined)
  let count = 0
  pool.on('connect', (client) => void connectionOf(client).on('readyForQuery', () => count++))
  return { pool, sinceLast: () => [count, (count = 0)][0] }
}

function connectionOf(client: pg.PoolClient): NodeJS.EventEmitter & { stream: { destroy(): void } } {
  return (client as unknown as { connection: NodeJS.EventEmitter & { stream: { destroy(): void } } }).connection
}

describe.each(['plain', 'booked'])('a record that is written, %s', (form) => {
  const rows = () => own.database.sql('select * from swept order by id')
  const entries = () =>
    own.database.sql(
      `select e.outcome, e.changed, e.problem, e.key, e.before, e.after, s.kind from ledgerman.entry e join ledgerman.statement s on s.id = e.statement order by e.at`,
    )

  /** All that can become of a record; with the round trips that each took. */
  async function doneWith(options: (module: CompiledCode['module']) => pg.PoolConfig) {
    await own.database.sql('truncate swept, ruled; insert into ruled values (1, 1)')
    await own.database.sql('delete from ledgerman.entry')
    const { module } = compiled.get(form) as CompiledCode
    const { pool, sinceLast } = counting(options(module))
    const told: unknown[] = []
    const trips: (number | undefined)[] = []
    const tell = async (work: Promise<unknown>) => {
      const said = await work.catch((error: { code: string; current?: unknown }) => [error.code, error.current])
      told.push(said)
      trips.push(sinceLast())
      return said as { record: { id: number; version: number }; guard: string }
    }
    try {
      const values = { id: 1, code: 'A', hours: '1.50', took: 'P1DT2H' }
      await module.addSwept(pool, { ...values, id: 9, code: 'Z' })
      await module.changeSwept(pool, await module.loadSwept(pool, { id: 9 }), { hours: '3' })
      await module.removeSwept(pool, await module.loadSwept(pool, { id: 9 }))
      sinceLast()
      const added = await tell(module.addSwept(pool, values))
      const changed = await tell(module.changeSwept(pool, added, { hours: '2.5' }))
      await tell(module.changeSwept(pool, changed, { hours: '2.50' }))
      await tell(module.changeSwept(pool, added, { hours: '7' }))
      await tell(module.changeSwept(pool, { ...changed, record: { ...changed.record, id: 2 } }, { hours: '7' }))
      await tell(module.changeSwept(pool, changed, { hours: '600' }))
      await tell(module.changeSwept(pool, changed, { code: 'none' }))
      await tell(module.addSwept(pool, { ...values, id: 3 }))
      await tell(module.addSwept(pool, { ...values, id: 3, code: 'none' }))
      await tell(module.removeSwept(pool, added))
      await tell(module.changeRuled(pool, { record: { id: 1 }, guard: 'v1' }, { hours: '101' }))
      const kept = await rows()
      await tell(module.removeSwept(pool, changed))
      return {
        told,
        rows: [kept, await rows(), await own.database.sql('select * from ruled')],
        trips,
        entries: await entries(),
      }
    } finally {
      await pool.end()
    }
  }

  it('comes to the same in one statement as in a transaction', async () => {
    const within = await doneWith(() => ({}))
    const alone = await doneWith(({ POOL_SETTINGS }) => POOL_SETTINGS)
    expect({ ...alone, trips: [] }).toEqual({ ...within, trips: [] })
    expect(alone.told.map((each) => (Array.isArray(each) ? each[0] : 'done'))).toEqual(
      // prettier-ignore
      ['done', 'done', 'done', 'record-changed', 'no-such-record', 'constraint-broken', 'row-not-written', 'constraint-broken', 'row-not-written', 'record-changed', 'rule-broken', 'done'],
    )
    // What is done is one round trip; what the plain form did not write is looked at in a transaction; each refusal is booked behind it.
    const did = [0, 1, 11]
    expect(did.map((at) => within.trips[at])).toEqual([3, 3, 3])
    expect(did.map((at) => alone.trips[at])).toEqual([1, 1, 1])
    expect(alone.entries).toHaveLength(form === 'booked' ? within.entries.length : 0)
  })

  it('is not left to connections that begin otherwise, whatever they are set to later', async () => {
    const { module } = compiled.get(form) as CompiledCode
    await own.database.sql(`truncate swept; insert into swept values (1, 'A', 1)`)
    const trips = async (options: pg.PoolConfig) => {
      const { pool, sinceLast } = counting({ ...options, max: 1 })
      try {
        await pool.query('set lock_timeout = 2000; set statement_timeout = 10000; set intervalstyle = iso_8601')
        for (const hours of ['5', '6', '7'])
          await module.changeSwept(pool, await module.loadSwept(pool, { id: 1 }), { hours })
        const loaded = await module.loadSwept(pool, { id: 1 })
        sinceLast()
        await module.changeSwept(pool, loaded, { hours: '8' })
        return sinceLast()
      } finally {
        await pool.end()
      }
    }
    const { lock_timeout, statement_timeout, options } = module.POOL_SETTINGS
    expect(await trips({ lock_timeout, statement_timeout, options })).toBe(1)
    expect(await trips({ lock_timeout, statement_timeout })).toBe(3)
    expect(await trips({ lock_timeout, options })).toBe(3)
    expect(await trips({ lock_timeout: 0, statement_timeout, options })).toBe(3)
    const serial = `${options} -c default_transaction_isolation=serializable`
    expect(await trips({ lock_timeout, statement_timeout, options: serial })).toBe(3)
  })

  it('says that its outcome is not known where the answer does not come, and of a wait that is over that nothing was done', async () => {
    const { module } = compiled.get(form) as CompiledCode
    await own.database.sql(`truncate swept; insert into swept values (1, 'A', 1)`)
    const { pool } = counting({ ...module.POOL_SETTINGS, max: 1 })
    const holder = await own.database.session()
    try {
      const loaded = await module.loadSwept(pool, { id: 1 })
      await module.changeSwept(pool, loaded, { hours: '2' })
      await holder.query('begin; lock table swept')
      const again = { ...loaded, guard: 'v2' }
      await expect(module.changeSwept(pool, again, { hours: '3' })).rejects.toMatchObject({ code: 'lock-timeout' })
      const lost = module.changeSwept(pool, again, { hours: '3' }) as Promise<unknown>
      const waits = () =>
        own.database.sql(
          `select 1 from pg_stat_activity where datname = current_database() and wait_event_type = 'Lock'`,
        )
      const client = await new Promise<pg.PoolClient>((resolve) => pool.once('acquire', resolve))
      while ((await waits()).length === 0);
      connectionOf(client).stream.destroy()
      await expect(lost).rejects.toMatchObject({ code: 'outcome-unknown' })
      await holder.query('rollback')
      // What was sent went through once it could.
      while ((await own.database.sql('select 1 from swept where hours = 3')).length === 0);
      expect(await module.changeSwept(pool, { ...loaded, guard: 'v3' }, { hours: '4' })).toMatchObject({ changed: 1 })
      expect([pool.totalCount, pool.idleCount]).toEqual([1, 1])
    } finally {
      await holder.end()
      await pool.end()
    }
  })

  it('says so too where the server ends the session during the commit', async () => {
    const { module } = compiled.get(form) as CompiledCode
    const { pool } = counting({})
    try {
      const change = module.changeSlow(pool, { record: { id: 1 }, guard: 'v1' }, { hours: '2' }) as Promise<unknown>
      const told = expect(change).rejects.toMatchObject({ code: 'outcome-unknown' })
      const ended = () =>
        own.database.sql(
          `select pg_terminate_backend(pid) from pg_stat_activity where datname = current_database() and query = 'commit' and wait_event = 'PgSleep'`,
        )
      while ((await ended()).length === 0);
      await told
      expect(await own.database.sql('select hours from slow')).toEqual([{ hours: '1.00' }])
    } finally {
      await pool.end()
    }
  })
})
