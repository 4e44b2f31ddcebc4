import { setTimeout as delay } from 'node:timers/promises'
import type { Job } from '@ledgerman/contract'
import { makeDatabase, type TestDatabase } from '../../../../testing/databases.js'
import { openProxy, type Proxy } from '../../../../testing/proxy.js'
import { startTestService, type RunningService } from '../../../../testing/running-service.js'

// A job whose database is away for longer than it is asked what became of a commit, as for a restart.
let database: TestDatabase
let proxy: Proxy
let service: RunningService
const ROWS = 2_000
/** So many that putting them back is a job. */
const MANY = 50_000
const AWAY_MS = 3_000

beforeAll(async () => {
  database = await makeDatabase()
  await database.sql(`create table lot (id integer primary key, amount integer not null, row_version integer not null default 1);
    insert into lot select n, 0 from generate_series(1, ${ROWS}) n; grant all on lot to ledgerman_worker;
    create table pile (id integer primary key, amount integer not null);
    insert into pile select n, 0 from generate_series(1, ${MANY}) n; grant all on pile to ledgerman_worker`)
  proxy = await openProxy(database.url)
  service = await startTestService({ extraTargets: { far: proxy.urlOf(database.url) } })
  const far = service.client.target('far')
  await far.prepareBook()
  await far.publishMapping(
    'lot',
    `mapping: lot
table: public.lot
key: [id]
guard: { by: version, property: rowVersion }
properties: { id: { column: id }, amount: { column: amount }, rowVersion: { column: row_version } }`,
  )
})
afterAll(async () => {
  await service?.stop()
  await proxy?.close()
  await database?.drop()
})

/** Has everything cut from the nth COMMIT on, until the database is back. Resolves as that COMMIT is cut. */
function cutAtCommit(nth: number, verdict: 'cut' | 'cutAnswer'): Promise<void> {
  let left = nth
  let isAway = false
  return new Promise((resolve) => {
    const rules: Proxy['rules'] = {
      onRequest: (text) => {
        if (isAway) return 'cut'
        if (!/\bcommit\0/i.test(text) || --left > 0) return 'pass'
        isAway = true
        // The next cut is not ended by this one's time.
        setTimeout(() => delete rules.onRequest, AWAY_MS)
        resolve()
        return verdict
      },
    }
    proxy.rules = rules
  })
}

async function amountNow(): Promise<number> {
  const [row] = await database.sql('select amount from lot where id = 1')
  return Number(row?.['amount'])
}

/** Begins a job that raises every amount by one: in chunks from a file, else in one statement. */
async function beginToRaise(next: number, chunk: number | undefined): Promise<string> {
  const far = service.client.target('far')
  const job = chunk
    ? await far.beginFileJob(new Blob([fileOf(next)]), 'csv', { mapping: 'lot', mode: 'commit', chunk })
    : await far.beginJob({
        mode: 'commit',
        mapping: 'lot',
        everyRow: true,
        expect: ROWS,
        compute: { amount: 'amount + 1' },
      })
  return job.id
}

async function endOf(id: string): Promise<Job | undefined> {
  let last: Job | undefined
  for await (const job of service.client.followJob(id)) last = job
  return last
}

const fileOf = (amount: number) =>
  `id,amount\n${Array.from({ length: ROWS }, (_, at) => `${at + 1},${amount}`).join('\n')}\n`

it.each([
  ['in chunks, whose commit did not arrive', 'cut', 500],
  ['in chunks, whose commit was done', 'cutAnswer', 500],
  ['in one statement, whose commit did not arrive', 'cut', undefined],
  ['in one statement, whose commit was done', 'cutAnswer', undefined],
] as const)('a job %s, goes on when the database is back, and is applied once', async (_, verdict, chunk) => {
  const next = (await amountNow()) + 1
  void cutAtCommit(chunk === undefined ? 1 : 2, verdict)
  const id = await beginToRaise(next, chunk)
  const last = await endOf(id)
  expect([last?.problem ?? null, last?.state, last?.report?.matched, last?.report?.changed]).toEqual([
    null,
    'done',
    ROWS,
    ROWS,
  ])
  expect(await database.sql('select distinct amount from lot')).toEqual([{ amount: next }])
  const written = await database.sql(
    `select count(*)::int as entries, sum(changed)::int as changed from ledgerman.entry where outcome = 'committed' and run->>'job' = '${id}'`,
  )
  expect(written).toEqual([{ entries: chunk === undefined ? 1 : ROWS / chunk, changed: ROWS }])
})

const cancelled = ['cancelled', 0, undefined, null] as const
it.each([
  ['as its commit is asked about, and was done', 'cutAnswer', 200, undefined, 1, ['done', 1, ROWS, null]],
  ['as its commit is asked about, and did not arrive', 'cut', 200, undefined, 1, cancelled],
  ['as it waits for the database, and was committed', 'cutAnswer', 2_000, undefined, 1, ['done', 1, ROWS, null]],
  ['as it waits for the database, and was not', 'cut', 2_000, undefined, 1, cancelled],
  ['as it waits, with its first chunk committed', 'cutAnswer', 2_000, 1_000, 1, ['cancelled', 1, 1_000, 1]],
  ['as it waits, with its last chunk committed', 'cutAnswer', 2_000, 1_000, 2, ['done', 2, ROWS, 2]],
] as const)('a job cancelled %s, ends as what it is', async (_, verdict, afterMs, chunk, nth, end) => {
  const before = await amountNow()
  const isCut = cutAtCommit(nth, verdict)
  const id = await beginToRaise(before + 1, chunk)
  await isCut
  await delay(afterMs)
  await service.client.cancelJob(id)
  const last = await endOf(id)
  expect(last?.problem ?? null).toBeNull()
  expect([last?.state, last?.entries.length, last?.report?.changed, last?.progress.chunk]).toEqual(end)
  const raised = await database.sql(`select count(*)::integer as rows from lot where amount = ${before + 1}`)
  expect(raised).toEqual([{ rows: end[2] ?? 0 }])
  await database.sql(`update lot set amount = ${before + 1}`)
})

/** Has a job change every row of a pile, and another put that back. @returns the one that puts back */
async function beginToPutBack(amount: number, meanwhile: () => Promise<unknown>): Promise<string> {
  const far = service.client.target('far')
  await far.publishMapping(
    'pile',
    '{ mapping: pile, table: public.pile, key: [id], guard: { by: none }, properties: { id: { column: id }, amount: { column: amount } } }',
  )
  const raise = { mode: 'commit', mapping: 'pile', everyRow: true, expect: MANY, values: { amount } } as const
  const raised = await endOf((await far.beginJob(raise)).id)
  const isCut = meanwhile()
  const { id } = await far.reverse(raised?.entries[0] ?? '', { mode: 'commit' })
  await isCut
  return id
}

it('a job that puts back, and is cancelled as its commit is asked about, ends as what it is', async () => {
  const id = await beginToPutBack(1, () => cutAtCommit(1, 'cutAnswer'))
  await service.client.cancelJob(id)
  const last = await endOf(id)
  expect([last?.state, last?.entries.length, last?.report?.changed]).toEqual(['done', 1, MANY])
  expect(await database.sql('select distinct amount from pile')).toEqual([{ amount: 0 }])
})

it('a job that is refused when it goes on, is told why', async () => {
  const id = await beginToPutBack(2, () => cutAtCommit(1, 'cut'))
  await database.sql('update pile set amount = 3 where id = 1')
  const last = await endOf(id)
  expect([last?.state, last?.problem?.code, last?.entries.length]).toEqual(['failed', 'reversal-conflict', 0])
})
