import { setTimeout as delay } from 'node:timers/promises'
import { isProblem, type LedgermanProblem } from '@ledgerman/contract'
import {
  changeRecord,
  findRecords,
  listWaits,
  loadRecord,
  parseKeyParts,
  resolvePlan,
  runPlan,
  Target,
  type Mapping,
} from '@ledgerman/core'
import { openOwnTables, type OwnTables } from '../../../../testing/own-tables.js'

// Somebody holds a row or a table, and many wait: how long they may, what they take from others, and what they are told.

const LOCK_WAIT_MS = 1_500
let own: OwnTables
let target: Target
let slot: Mapping
let held: Awaited<ReturnType<OwnTables['database']['session']>>

beforeAll(async () => {
  own = await openOwnTables()
  slot = await own.mapped(
    'public.slot',
    `create table slot (id integer primary key, note text default 'none' check (length(note) < 100), twice integer generated always as (2 * id) stored); insert into slot select n, 'as it was' from generate_series(1, 40) n`,
    { guard: { by: 'none' } },
  )
  target = new Target({
    name: 'piled',
    url: own.database.url,
    connections: 10,
    limits: { lockWaitMs: LOCK_WAIT_MS },
    digestKey: Buffer.from('k'),
  })
  await target.isBookPrepared()
})
beforeEach(async () => {
  held = await own.database.session()
  await held.query('begin')
})
afterEach(async () => {
  await held.query('rollback')
  await held.end()
})
afterAll(async () => {
  await target.close()
  await own.close()
})

const change = (id: number, note: string) =>
  changeRecord(target, slot, {
    mode: 'commit',
    actor: 'ada',
    key: parseKeyParts(slot, [String(id)]),
    guard: undefined,
    values: { note },
  })
const problemOf = async (work: Promise<unknown>): Promise<LedgermanProblem> => {
  const error: unknown = await work.then(
    () => new Error('it was told as done'),
    (reason: unknown) => reason,
  )
  if (isProblem(error)) return error
  throw error
}

it('tells everybody at a held row who holds it, within the lock wait, and leaves others what they need', async () => {
  await held.query('select * from slot where id = 1 for update')
  const since = performance.now()
  const refused = Array.from({ length: 64 }, (_, at) => problemOf(change(1, `of ${at}`)))
  await delay(150)
  const goodSince = performance.now()
  const good = await Promise.all(Array.from({ length: 30 }, (_, at) => change(at + 2, 'changed meanwhile')))
  const goodMs = performance.now() - goodSince
  expect(good.every(({ receipt }) => receipt.outcome === 'committed')).toBe(true)
  const sessions = await listWaits(target)
  expect(sessions.filter(({ wants }) => wants === 'row').length).toBeLessThanOrEqual(3)
  const problems = await Promise.all(refused)
  const refusedMs = performance.now() - since
  expect(new Set(problems.map(({ code }) => code))).toEqual(new Set(['lock-timeout']))
  for (const { facts } of problems)
    expect(facts['chain']).toContainEqual(expect.objectContaining({ application: 'somebody else', isRoot: true }))
  // Nobody waits for the whole of their wait behind those who wait.
  expect(goodMs).toBeLessThan(LOCK_WAIT_MS)
  expect(refusedMs).toBeLessThan(LOCK_WAIT_MS * 4)
})

it('counts the wait for those before in line too', async () => {
  await held.query('select * from slot where id = 1 for update')
  const waits = await Promise.all(
    Array.from({ length: 8 }, async (_, at) => {
      const since = performance.now()
      await problemOf(change(1, `of ${at}`))
      return performance.now() - since
    }),
  )
  expect(Math.max(...waits)).toBeLessThan(LOCK_WAIT_MS * 3)
})

it('lets the line go on when the row is free', async () => {
  await held.query('select * from slot where id = 1 for update')
  const changes = Array.from({ length: 20 }, (_, at) => change(1, `in line ${at}`))
  await delay(100)
  await held.query('commit')
  for (const { receipt } of await Promise.all(changes)) expect(receipt.outcome).toBe('committed')
})

it('names who holds the whole table, also where its columns have to be read again', async () => {
  await held.query('lock table slot in access exclusive mode')
  expect((await problemOf(change(3, 'x'))).facts['holder']).toMatchObject({ application: 'somebody else' })
  const reads = [
    () => loadRecord(target, slot, parseKeyParts(slot, ['3'])),
    () =>
      findRecords(target, slot, { where: 'id = 3', bind: {}, limit: 1 }, () => Promise.reject(new Error('no links'))),
    () => target.table('public.slot'),
  ]
  target.forgetCatalogue()
  for (const problem of await Promise.all(reads.map((read) => problemOf(read()))))
    expect(problem).toMatchObject({ code: 'lock-timeout', facts: { holder: { application: 'somebody else' } } })
})

it('says that a row is held where locked ones are skipped, rather than that there is none', async () => {
  await held.query('select * from slot where id = 1 for update')
  const plan = await resolvePlan(
    target,
    { params: {}, lockWait: 'skip', steps: [{ change: 'slot', key: { id: '1' }, values: { note: 'x' } }] },
    null,
    null,
    () => Promise.resolve(slot),
  )
  const problem = await problemOf(runPlan(target, plan, { mode: 'commit', actor: 'ada', params: {} }))
  expect(problem.code).toBe('lock-timeout')
  expect(problem.facts['leftOut']).toEqual([{ id: 1 }])
})

it('does not refuse a change for a row that moves to another partition meanwhile', async () => {
  const moving = await own.mapped(
    'public.moving',
    `create table moving (id integer, part integer, note text, primary key (id, part)) partition by list (part);
     create table moving_1 partition of moving for values in (1); create table moving_2 partition of moving for values in (2);
     insert into moving values (1, 1, 'a'), (2, 1, 'b')`,
    { guard: { by: 'none' } },
  )
  await held.query('update moving set part = 2 where id = 1')
  const work = problemOf(
    changeRecord(target, moving, {
      mode: 'commit',
      actor: 'ada',
      key: parseKeyParts(moving, ['1', '1']),
      guard: undefined,
      values: { note: 'c' },
    }),
  )
  await delay(100)
  await held.query('commit')
  expect((await work).code).toBe('no-such-record')
})
