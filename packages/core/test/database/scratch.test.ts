import { setImmediate, setTimeout as delay } from 'node:timers/promises'
import {
  drillFaults,
  drillInterleavings,
  resolvePlan,
  sweepScratch,
  Target,
  type Definitions,
  type Mapping,
} from '@ledgerman/core'
import { isProblem, type DrilledRun, type StepDefinition } from '@ledgerman/contract'
import { DrillClock } from '../../src/drill/clock.js'
import type { HistoryEvent } from '../../src/drill/interleaving/history.js'
import { Lane } from '../../src/drill/interleaving/lane.js'
import type { ScratchDatabase } from '../../src/drill/scratch/scratch-database.js'
import { openOwnTables, type OwnTables } from '../../../../testing/own-tables.js'
import { openProxy } from '../../../../testing/proxy.js'

// Drills on tables that are hard to copy, and runs whose schedules are hard to judge.

let own: OwnTables
const mappings = new Map<string, Mapping>()
const find = (name: string) => Promise.resolve(mappings.get(name) as Mapping)
const definitions: Definitions = {
  actor: 'ada',
  mapping: (_, name) => find(name),
  transaction: () => Promise.reject(new Error('none is published')),
}
const source = () => ({
  target: own.target,
  // As the driver takes it, and PostgreSQL's own programs do not.
  targetUrl: `${own.database.url}?sslmode=disable&uselibpqcompat=true`,
  homeUrl: own.database.ownerUrl,
  findMapping: find,
  env: process.env,
  sensitive: new Map<string, Set<string>>(),
})
const steps = (...list: StepDefinition[]): DrilledRun => ({ steps: list, params: {} })
const interleave = (runs: DrilledRun[]) =>
  drillInterleavings(
    source(),
    { kind: 'interleaving', runs, guard: ['as defined'], isolation: ['read committed'], atMost: 200 },
    definitions,
  )
const scratchDatabases = async () =>
  (await own.database.sql(`select datname from pg_database where datname like 'ledgerman_drill_%'`)).map((row) =>
    String(row['datname']),
  )
/** Whatever stands there when a drill has ended goes: other tests' databases with them, one that was left behind never. */
const leftDatabases = async () => {
  let left = await scratchDatabases()
  for (const end = Date.now() + 60_000; left.length > 0 && Date.now() < end; await delay(250)) {
    const still = new Set(await scratchDatabases())
    left = left.filter((name) => still.has(name))
  }
  return left
}

beforeAll(async () => {
  own = await openOwnTables({}, {}, { isTrapped: true })
  const map = async (path: string, ddl: string, difference: object = { guard: { by: 'none' } }) => {
    const mapping = await own.mapped(path, ddl, difference)
    mappings.set(mapping.name, mapping)
  }
  await own.database.sql('create extension hstore')
  await map(
    'public.plate',
    `create sequence plate_no; create sequence loose_no start 7; select nextval('loose_no');
     create table plate (id text primary key default 'P-' || nextval('plate_no'), t text, a0 text, tags hstore, doc jsonb not null default 'null', seen timestamptz, note text);
     insert into plate (t, a0, tags, seen) values ('one', 'x', 'a=>1', '2020-01-01'), ('two', 'y', null, '2020-01-02');
     insert into plate (id, t) values ('1), (select current_user', 'a text that was once SQL')`,
  )
  await map(
    'public.shelf',
    `create table shelf (id integer primary key, holds text); insert into shelf values (1, 'P-1')`,
  )
  await map(
    'public.owned',
    `create table owned (id integer primary key, owner text, note text); insert into owned values (1, 'ada', 'a'), (2, 'eve', 'b');
     alter table owned enable row level security; create policy own on owned using (owner = current_setting('ledgerman.actor', true))`,
  )
  await map(
    'public.visitor',
    `create table visitor (id uuid primary key default gen_random_uuid(), name text, came timestamptz default clock_timestamp())`,
  )
})
afterAll(() => own.close())
afterEach(async () => expect(await leftDatabases()).toEqual([]))

it('holds policies over the runs, and sees and puts back all rows itself', async () => {
  const run = steps({ remove: 'owned', key: { id: '1' } })
  const drill = await drillFaults(source(), { kind: 'fault', run, faults: ['error', 'connection'] }, definitions)
  expect(drill).toMatchObject({ passed: true, undisturbed: { outcome: 'committed', differing: [{ after: null }] } })
  const hidden = await drillFaults(
    source(),
    { kind: 'fault', run: steps({ remove: 'owned', key: { id: '2' } }), faults: ['error'] },
    definitions,
  )
  expect(hidden.undisturbed).toMatchObject({ outcome: 'no-such-record', differing: [] })
})

it('copies rows of any type, whatever their columns are called, and sequences that no column owns', async () => {
  const run = steps(
    { change: 'plate', key: { id: `'P-1'` }, compute: { t: `t || '!'` } },
    { add: 'plate', compute: { t: `'new'` } },
    { sql: `insert into plate (id, t) values ('L-' || nextval('loose_no')::text, 'raw')`, changes: true },
  )
  const drill = await drillFaults(source(), { kind: 'fault', run, faults: ['error'] }, definitions)
  expect(drill).toMatchObject({ passed: true, notRun: null, undisturbed: { outcome: 'committed' } })
  const added = drill.undisturbed.differing.filter(({ before }) => before === null).map(({ key }) => key['id'])
  expect(added).toEqual(expect.arrayContaining(['P-4', 'L-9']))
})

it('finds a lost update between a value of its own and one of the clock', async () => {
  const readThenSet = steps(
    { load: 'plate', as: 'loaded', key: { id: `'P-1'` } },
    { change: 'plate', key: { id: `'P-1'` }, compute: { seen: `loaded.seen` }, guard: 'any' },
  )
  const byClock = steps({ change: 'plate', key: { id: `'P-1'` }, compute: { seen: `now() + '1 day'` } })
  const drill = await interleave([readThenSet, byClock])
  expect(drill.results[0]?.anomalies.map(({ name }) => name)).toEqual(['lost update'])
})

it('fetches a record that only another order asks for', async () => {
  const points = steps(
    { load: 'shelf', as: 'place', key: { id: '1' } },
    { change: 'plate', key: { id: 'place.holds' }, compute: { note: `'seen'` } },
  )
  const moves = steps({ change: 'shelf', key: { id: '1' }, values: { holds: 'P-2' } })
  const drill = await interleave([points, moves])
  expect(drill.results[0]).toMatchObject({ refusals: {}, refused: 0 })
  expect(drill.scratch.tables).toContainEqual({ table: 'public.plate', rows: 2 })
})

it('finds nothing wrong with runs that chance and a clock make differ, and that do not meet', async () => {
  const comes = steps({ add: 'visitor', values: { name: 'a' } }, { sql: 'select clock_timestamp()' })
  const looks = steps(
    { load: 'visitor', where: `name = 'b'`, expect: 'any' },
    { add: 'visitor', values: { name: 'c' } },
  )
  expect((await interleave([comes, looks])).results[0]?.anomalies).toEqual([])
})

it('sees rows in whichever of many tables they are', async () => {
  const crowd = Array.from({ length: 60 }, (_, at) => `create table crowd.t${at} (id serial primary key, said text);`)
  await own.database.sql(`create schema crowd; ${crowd.join('\n')}
    grant usage on schema crowd to public; grant select, insert on all tables in schema crowd to public; grant usage on crowd.t59_id_seq to public`)
  const mapping = await own.mapped(
    'public.plate_half',
    `create table plate_half (id integer, half text, note text, primary key (id, half)) partition by list (half);
     create table plate_half_a partition of plate_half for values in ('A');
     create function tell() returns trigger language plpgsql as $$ begin insert into crowd.t59 (said) values (new.note); return null; end $$;
     create trigger told after update on plate_half for each row execute function tell();
     insert into plate_half values (1, 'A', 'old')`,
    { guard: { by: 'none' } },
  )
  mappings.set(mapping.name, mapping)
  const run = steps({ change: mapping.name, key: { id: '1', half: `'A'` }, values: { note: 'new' } })
  const drill = await drillFaults(source(), { kind: 'fault', run, faults: ['error'] }, definitions)
  expect(drill).toMatchObject({ passed: true, notRun: null, undisturbed: { outcome: 'committed' } })
  expect(drill.undisturbed.differing).toMatchObject([
    { table: 'public.plate_half', before: { note: 'old' }, after: { note: 'new' } },
    { table: 'crowd.t59', before: null, after: { said: 'new' } },
  ])
  expect(drill.scratch.notes).toContainEqual(expect.stringMatching(/^59 sequences start again.* and 54 more\.$/))
})

it('does not pass where nothing could be run', async () => {
  const broken = steps({ change: 'plate', key: { id: `'nowhere'` }, values: { note: 'x' } })
  const drill = await interleave([broken, broken])
  expect(drill).toMatchObject({ passed: false, notRun: expect.stringContaining('nowhere') })
})

it('finishes what it was let go on with before it takes its next turn', async () => {
  const plan = await resolvePlan(
    own.target,
    {
      steps: [
        { load: 'shelf', key: { id: '1' }, as: 'one', lock: 'change' },
        { require: 'one.id = 1' },
        { change: 'shelf', key: { id: '1' }, values: { holds: 'P-2' } },
      ],
    } as never,
    null,
    null,
    find,
  )
  const blocked = async ([pid]: readonly number[]) => {
    const rows = await own.database.sql(`select from pg_locks where pid = ${pid} and not granted`)
    return new Set(rows.map(() => pid))
  }
  const [holder, session] = [await own.target.session(), await own.target.session()]
  try {
    await holder.query('begin')
    await holder.query('select from public.shelf for update')
    const drilled = { plan, params: {}, what: 'move', actor: 'ada' }
    const scratch = { target: own.target, blocked } as unknown as ScratchDatabase
    const events: HistoryEvent[] = []
    const lane = new Lane(
      0,
      scratch,
      session,
      drilled,
      new Map(),
      await DrillClock.begin((text) => session.query(text)),
      events,
    )
    await lane.turn()
    expect(lane.isWaiting).toBe(true)
    await holder.query('rollback')
    // Its load is done, and what is required of it is on its way to the server.
    while (lane.isWaiting) await setImmediate()
    await lane.turn()
    expect(events.map(({ step, action }) => `${step} ${action}`)).toEqual(['1 waits', '1 went on', '2 ran', '3 ran'])
  } finally {
    await session.query('rollback')
    for (const each of [holder, session]) each.release(true)
  }
})

it('leaves nothing behind where it cannot be built', async () => {
  const work = drillFaults(
    { ...source(), env: { ...process.env, PGOPTIONS: '-c nonsense=1' } },
    { kind: 'fault', run: steps({ load: 'plate', key: { id: `'P-1'` } }), faults: ['error'] },
    definitions,
  )
  const error: unknown = await work.then(
    () => null,
    (reason: unknown) => reason,
  )
  expect(isProblem(error, 'scratch-unavailable')).toBe(true)
  await sweepScratch(own.database.ownerUrl)
})

it('is not built of what a target told until it was lost', async () => {
  const proxy = await openProxy(own.database.url)
  const target = new Target({ name: 'away', url: proxy.urlOf(own.database.url), digestKey: Buffer.from('k') })
  let isCut = false
  proxy.rules = { onRequest: (text) => (!isCut && /public\.shelf as/.test(text) && (isCut = true) ? 'cut' : 'pass') }
  try {
    const run = steps({ change: 'shelf', key: { id: '1' }, values: { holds: 'P-2' } })
    const drill = drillFaults({ ...source(), target }, { kind: 'fault', run, faults: ['error'] }, definitions)
    await expect(drill).rejects.toMatchObject({ code: 'target-unavailable' })
    expect(isCut).toBe(true)
  } finally {
    await target.close()
    await proxy.close()
  }
})
