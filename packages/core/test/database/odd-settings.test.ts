import pg from 'pg'
import {
  changeRecord,
  listEntries,
  loadRecord,
  parseKeyParts,
  readTargetState,
  resolvePlan,
  runPlan,
  Target,
  type Mapping,
} from '@ledgerman/core'
import { openOwnTables, type OwnTables } from '../../../../testing/own-tables.js'
import { openProxy } from '../../../../testing/proxy.js'

// What a database has set for all of its sessions changes neither what is stored nor what a statement means.
const SETTINGS = {
  array_nulls: 'off',
  quote_all_identifiers: 'on',
  default_transaction_isolation: 'serializable',
  xmloption: 'document',
  DateStyle: 'German, DMY',
  IntervalStyle: 'sql_standard',
  bytea_output: 'escape',
  extra_float_digits: '-5',
  TimeZone: 'Asia/Kathmandu',
  row_security: 'off',
}

let own: OwnTables
let mapping: Mapping
const options = { mode: 'commit', actor: 'test', guard: 'any' } as const
beforeAll(async () => {
  own = await openOwnTables(SETTINGS)
  mapping = await own.mapped(
    'public.plate',
    `create table plate (id integer primary key, tags text[], sizes numeric(6,2)[], doc xml, seen timestamptz, took interval, share float8, raw bytea, level text);
     create function say_level() returns trigger language plpgsql as $$ begin new.level := current_setting('transaction_isolation'); return new; end $$;
     create trigger say_level before update on plate for each row execute function say_level();
     insert into plate (id) values (1);
     alter table plate enable row level security; create policy everyone on plate using (true)`,
    { guard: { by: 'none' } },
  )
})
afterAll(() => own.close())

it('keeps every value as it is', async () => {
  const values = {
    tags: ['a', null, 'NULL'],
    sizes: ['1.50', null],
    doc: 'text <b>and</b> more',
    seen: '2026-02-03T21:00:00.123456Z',
    took: 'P1DT2H',
    share: 0.1 + 0.2,
    raw: 'AP9c',
  }
  const key = parseKeyParts(mapping, ['1'])
  const { record } = await changeRecord(own.target, mapping, { ...options, key, values })
  expect(record).toMatchObject({ ...values, level: 'read committed' })
  expect((await loadRecord(own.target, mapping, key)).record).toMatchObject(values)
  const [stored] = await own.database.sql(
    `select tags[2] is null and tags[3] = 'NULL' and sizes[2] is null as whole, seen = '2026-02-03 21:00:00.123456+00' as at from plate where id = 1`,
  )
  expect(stored).toEqual({ whole: true, at: true })
})

it('keeps texts of another encoding, and books what cannot be stored in it', async () => {
  const latin = await openOwnTables({}, {}, { encoding: 'LATIN1' })
  try {
    const tag = await latin.mapped(
      'public.tag',
      `create table tag (id integer primary key, name text check (length(name) < 9)); insert into tag values (1, 'caf' || chr(233))`,
      { guard: { by: 'none' } },
    )
    const key = parseKeyParts(tag, ['1'])
    const change = (name: string) => changeRecord(latin.target, tag, { ...options, key, values: { name } })
    expect((await loadRecord(latin.target, tag, key)).record).toEqual({ id: 1, name: 'café' })
    await change('thé')
    expect(await latin.database.sql('select octet_length(name) as bytes from tag')).toEqual([{ bytes: 3 }])
    await expect(change('→')).rejects.toMatchObject({ code: 'value-invalid', facts: { where: 'name' } })
    const { entries } = await listEntries(latin.target, { outcome: 'refused', limit: 5 } as never, () =>
      Promise.resolve(undefined),
    )
    expect(entries).toMatchObject([{ problem: 'value-invalid' }])
  } finally {
    await latin.close()
  }
})

it('makes do with as many sessions as the role may have', async () => {
  const role = `few_${own.database.name}`
  await own.database.sql(
    `create role ${role} login password 'few' connection limit 6; grant ledgerman_worker to ${role}; insert into plate (id) select n from generate_series(100, 160) n`,
  )
  const url = Object.assign(new URL(own.database.url), { username: role, password: 'few' }).toString()
  const target = new Target({ name: 'few', url, connections: 20, digestKey: Buffer.from('k') })
  try {
    const steps = [{ sql: 'select pg_sleep(0.02)' }]
    const plan = await resolvePlan(target, { params: {}, steps }, null, null, () => Promise.resolve(mapping))
    const keys = Array.from({ length: 30 }, (_, at) => parseKeyParts(mapping, [String(100 + at)]))
    await Promise.all(
      keys.map((key, at) =>
        at % 5 === 0
          ? runPlan(target, plan, { mode: 'commit', actor: 'test', params: {} })
          : at % 2 === 0
            ? loadRecord(target, mapping, key)
            : changeRecord(target, mapping, { ...options, key, values: { share: at } }),
      ),
    )
    const [{ n } = {}] = await own.database.sql(
      `select count(*)::int as n from plate where share is not null and id > 1`,
    )
    expect(n).toBe(12)
    // Those that idle after it give their places to sessions of another kind.
    const sleep = (use: (text: string) => Promise<unknown>) =>
      Promise.all(Array.from({ length: 6 }, () => use('select pg_sleep(0.05)')))
    await sleep((text) => target.readOnly(text, []))
    await sleep((text) => target.query(text))
    const session = await target.openOwnSession(1_000, 'test')
    await session.close()
    await sleep((text) => target.readOnly(text, []))
  } finally {
    await target.close()
    await own.database.sql(`drop role ${role}`)
  }
})

it('keeps no session for a look at who waits that cannot be had', async () => {
  const role = `last_${own.database.name}`
  await own.database.sql(
    `create role ${role} login password 'last' connection limit 1; grant ledgerman_worker to ${role}`,
  )
  const url = Object.assign(new URL(own.database.url), { username: role, password: 'last' }).toString()
  const target = new Target({ name: 'last', url, digestKey: Buffer.from('k') })
  try {
    const steps = [{ sql: 'select pg_sleep(0.15)' }]
    const plan = await resolvePlan(target, { params: {}, steps }, null, null, () => Promise.resolve(mapping))
    const run = () => runPlan(target, plan, { mode: 'commit', actor: 'test', params: {} })
    // The first has the only session for longer than it takes until somebody looks; the second would give up waiting for it.
    const runs = await Promise.all([run(), run(), run()])
    expect(runs.map(({ receipt }) => receipt.outcome)).toEqual(['committed', 'committed', 'committed'])
    // Nor is one left to run for a caller who has gone, as there is none to cancel it in.
    const slow = [{ sql: 'select pg_sleep(9)' }]
    const long = await resolvePlan(target, { params: {}, steps: slow }, null, null, () => Promise.resolve(mapping))
    await run()
    const gone = AbortSignal.timeout(200)
    const started = performance.now()
    const left = runPlan(target, long, { mode: 'commit', actor: 'test', params: {}, signal: gone })
    await expect(left).rejects.toMatchObject({ code: 'cancelled' })
    expect(performance.now() - started).toBeLessThan(9_000)
  } finally {
    await target.close()
    await own.database.sql(`drop role ${role}`)
  }
})

it('says why runs were refused, and what came of them before, though they hold as many sessions as there are', async () => {
  const tile = await own.mapped(
    'public.tile',
    'create table tile (id integer primary key, n integer, version integer not null default 1); insert into tile select n from generate_series(1, 6) n',
    { guard: { by: 'version', property: 'version' } },
  )
  const two = new Target({ name: 'two', url: own.database.url, connections: 2, digestKey: Buffer.from('k') })
  try {
    const plans = await Promise.all(
      [1, 2, 3, 4, 5, 6].map(async (id) => {
        await changeRecord(two, tile, {
          ...options,
          actor: 'amara',
          key: parseKeyParts(tile, [`${id}`]),
          values: { n: 1 },
        })
        const steps = [{ change: 'tile', key: { id }, guard: 'v1', values: { n: 2 } }]
        return resolvePlan(two, { params: {}, steps }, `tile-${id}`, 1, () => Promise.resolve(tile))
      }),
    )
    const run = (plan: (typeof plans)[number]) =>
      runPlan(two, plan, { mode: 'commit', actor: 'test', params: {} }).catch(({ facts, code }) => [code, facts.by])
    const by = { n: expect.objectContaining({ actor: 'amara' }) }
    expect(await Promise.all(plans.map(run))).toEqual(plans.map(() => ['record-changed', by]))
    const steps = [{ change: 'tile', key: { id: 1 }, compute: { n: 'n + 1' } }]
    const plan = await resolvePlan(two, { params: {}, steps }, 'count', 1, () => Promise.resolve(tile))
    const keyed = (key: string) =>
      runPlan(two, plan, { mode: 'commit', actor: 'test', params: {}, request: { key, digest: 'd' } })
    const keys = ['a', 'b', 'c', 'd', 'e', 'f']
    const first = await Promise.all(keys.map(keyed))
    const again = await Promise.all(keys.map(keyed))
    expect(again.map(({ receipt }) => [receipt.id, receipt.replayed])).toEqual(
      first.map(({ receipt }) => [receipt.id, true]),
    )
  } finally {
    await two.close()
  }
})

it('warns of what cannot be relied on', async () => {
  const bare = await openOwnTables({ synchronous_commit: 'off' }, {}, { encoding: 'SQL_ASCII' })
  try {
    const { warnings } = await readTargetState(bare.target)
    expect(warnings).toEqual([
      expect.stringMatching(/^What it says is committed can be lost .*synchronous_commit/),
      expect.stringMatching(/^It has no encoding \(SQL_ASCII\)/),
    ])
    expect((await readTargetState(own.target)).warnings).toEqual([])
  } finally {
    await bare.close()
  }
})

it('holds behind a proxy that refuses what a session is to begin with', async () => {
  const proxy = await openProxy(own.database.url)
  let refused = 0
  proxy.rules = { onRequest: (text) => (/\0options\0/.test(text) && ++refused > 0 ? 'refuse' : 'pass') }
  const target = new Target({
    name: 'proxied',
    url: proxy.urlOf(own.database.url),
    prepareStatements: false,
    digestKey: Buffer.from('k'),
  })
  try {
    const key = parseKeyParts(mapping, ['1'])
    await changeRecord(target, mapping, { ...options, key, values: { share: 0.1, seen: '2026-02-03T21:00:00Z' } })
    expect((await loadRecord(target, mapping, key)).record).toMatchObject({
      share: 0.1,
      seen: '2026-02-03T21:00:00Z',
      level: 'read committed',
    })
    const session = await target.openOwnSession(5_000, 'long task')
    const { rows } = await session.query(`select current_setting('DateStyle'), current_setting('statement_timeout')`)
    await session.close()
    expect(rows).toEqual([['ISO, MDY', '5s']])
    expect(refused).toBeGreaterThan(0)
  } finally {
    await target.close()
    await proxy.close()
  }
})

it('says nothing of what a holder does that the server does not watch', async () => {
  const holder = new pg.Client({ connectionString: own.database.ownerUrl })
  await holder.connect()
  try {
    await holder.query('set track_activities = off')
    await holder.query('begin')
    await holder.query('select from plate where id = 1 for update')
    const waiting = changeRecord(own.target, mapping, {
      ...options,
      key: parseKeyParts(mapping, ['1']),
      values: { share: 0.5 },
    })
    await expect(waiting).rejects.toMatchObject({
      code: 'lock-timeout',
      detail: expect.not.stringContaining('disabled') as string,
      facts: { holder: { state: null } },
    })
  } finally {
    await holder.end()
  }
})
