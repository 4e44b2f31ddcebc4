import { mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { setTimeout as delay } from 'node:timers/promises'
import pg from 'pg'
import { LedgermanClient, type TargetClient } from '@ledgerman/client'
import { isProblem, type Job } from '@ledgerman/contract'
import { findFreePort, removeCluster, startCluster, startService, type Cluster } from '@ledgerman/local'

// Every committed change has its entry and every entry its change, whoever is killed in the middle of it.
const KILLS = Number(process.env['LEDGERMAN_TEST_KILLS'] ?? 3)
/** Each job that is killed waits for its lease to be over. */
const JOB_KILLS = Math.min(KILLS, Number(process.env['LEDGERMAN_TEST_JOB_KILLS'] ?? 2))
const JOB_ROWS = 4_000
const JOB_CHUNK = 100
const CALLERS = 8
/** Rows that transactions move amounts between, so that all of them together stay 0. */
const FIRST_POT = 101
const POTS = 4
const ROOT = join(import.meta.dirname, '../../../..')
let dataDir: string
let postgresPort: number
let cluster: Cluster
let service: Awaited<ReturnType<typeof startService>>
let configFile: string
let lastProblem: unknown
let target: TargetClient
let client: LedgermanClient
const env = { ...process.env, LEDGERMAN_HOST: '', LEDGERMAN_PORT: '', LEDGERMAN_DATA_DIR: '', NODE_OPTIONS: '' }

beforeAll(async () => {
  dataDir = mkdtempSync(join(tmpdir(), 'ledgerman-kills-'))
  postgresPort = await findFreePort()
  cluster = await startCluster({ dataDir, port: postgresPort })
  const port = await findFreePort()
  await sql('create database tally', 'postgres')
  await sql(
    'create table tally (id integer primary key, amount integer not null, row_version integer not null default 1)',
  )
  await sql(`insert into tally select n, 0, 1 from generate_series(1, ${CALLERS}) n`)
  await sql(`insert into tally select n, 0, 1 from generate_series(${FIRST_POT}, ${FIRST_POT + POTS - 1}) n`)
  configFile = join(dataDir, 'config.yaml')
  const secrets = { home: cluster.adminUrl('postgres'), tally: cluster.adminUrl('tally') }
  for (const [name, url] of Object.entries(secrets)) writeFileSync(join(dataDir, `${name}.url`), url)
  writeFileSync(
    configFile,
    JSON.stringify({ port, dataDir, home: { url: 'file:home.url' }, targets: { tally: { url: 'file:tally.url' } } }),
  )
  service = await runService(port)
  const token = readFileSync(join(dataDir, 'admin-token'), 'utf8').trim()
  client = new LedgermanClient({ url: `http://127.0.0.1:${port}`, token })
  target = client.target('tally')
  const properties = 'id: { column: id }, amount: { column: amount }, rowVersion: { column: row_version }'
  await target.publishMapping(
    'tally',
    `{ mapping: tally, table: public.tally, key: [id], guard: { by: version, property: rowVersion }, properties: { ${properties} } }`,
  )
  await target.prepareBook()
  await target.publish([
    {
      source: `
transaction: move
params: { from: { type: integer }, to: { type: integer } }
retry: 5
steps:
  - { load: tally, where: 'id in (:from, :to)', expect: 2, lock: change }
  - { change: tally, key: { id: ':from' }, compute: { amount: amount - 1 } }
  - { change: tally, key: { id: ':to' }, compute: { amount: amount + 1 } }
`,
    },
  ])

  function runService(at: number) {
    return startService({ root: ROOT, configFile, dataDir, url: `http://127.0.0.1:${at}`, env })
  }
})
afterAll(async () => {
  await service.stop()
  await cluster.stop()
  removeCluster(dataDir)
  rmSync(dataDir, { recursive: true, force: true })
})

async function sql(text: string, database = 'tally'): Promise<Record<string, unknown>[]> {
  const client = new pg.Client({ connectionString: cluster.adminUrl(database) })
  await client.connect()
  try {
    return (await client.query<Record<string, unknown>>(text)).rows
  } finally {
    await client.end()
  }
}

/** Moves an amount between two pots that others move amounts between as well, by a transaction of several steps. */
async function move(): Promise<string> {
  const at = Math.floor(Math.random() * POTS)
  const from = FIRST_POT + at
  const to = FIRST_POT + ((at + 1) % POTS)
  return (await target.run({ mode: 'commit', transaction: 'move', params: { from, to } })).id
}

/** Adds 1 to a caller's own record, as it was loaded. */
async function count(at: number): Promise<string> {
  const key = [String(at + 1)]
  const { record, guard } = await target.load('tally', key)
  const values = { amount: Number(record['amount']) + 1 }
  return (await target.change('tally', key, values, { guard: guard ?? '' })).receipt.id
}

/** Changes records without pause until told to stop; gives the ids of the runs that were answered as committed. */
function load(): { hasCommitted(count: number): Promise<void>; stop(): Promise<string[]> } {
  let isDone = false
  const told: string[] = []
  const callers = Array.from({ length: CALLERS }, async (_, at) => {
    while (!isDone) {
      try {
        told.push(await (at % 4 === 0 ? count(at) : move()))
      } catch (error) {
        if (!isProblem(error)) throw error
        lastProblem = error
        await delay(10)
      }
    }
  })
  return {
    async hasCommitted(count) {
      const deadline = Date.now() + 20_000
      while (told.length < count) {
        if (Date.now() > deadline)
          throw new Error(`only ${told.length} changes were committed within 20 s`, { cause: lastProblem })
        await delay(5)
      }
    },
    async stop() {
      isDone = true
      await Promise.all(callers)
      return told
    },
  }
}

async function expectBookAndTableAgree(told: string[]): Promise<number> {
  const rows = await sql(`
    select t.id, t.amount, t.row_version - 1 as bumps, count(h.id)::int as entries, coalesce(max((h.after->>'amount')::int), 0) as last
    from tally t left join ledgerman.history h on h.key = jsonb_build_object('id', t.id::text) and h.outcome = 'committed' and h.mapping = 'tally' group by t.id order by t.id`)
  let moved = 0
  for (const { id, amount, bumps, entries, last } of rows) {
    if (Number(id) < FIRST_POT)
      expect({ bumps, entries, last }).toEqual({ bumps: amount, entries: amount, last: amount })
    else {
      expect({ id, entries }).toEqual({ id, entries: bumps })
      moved += Number(amount)
    }
  }
  expect(moved).toBe(0)
  expect(
    await sql(`select e.id from ledgerman.entry e where e.outcome = 'committed' and e.run is not null and not e.run ? 'job'
      and (select count(*) from ledgerman.image i where i.entry = e.id) <> 2`),
  ).toEqual([])
  const known = new Set((await sql(`select id from ledgerman.entry where outcome = 'committed'`)).map(({ id }) => id))
  expect(told.filter((id) => !known.has(id))).toEqual([])
  return known.size
}

/** A new table of so many rows, all 0, and its mapping. */
async function makeLot(rows: number): Promise<void> {
  await sql(`drop table if exists lot; create table lot (id integer primary key, amount integer not null, row_version integer not null default 1);
    insert into lot select n, 0 from generate_series(1, ${rows}) n`)
  const properties = 'id: { column: id }, amount: { column: amount }, rowVersion: { column: row_version }'
  await target.publishMapping(
    'lot',
    `{ mapping: lot, table: public.lot, key: [id], guard: { by: version, property: rowVersion }, properties: { ${properties} } }`,
  )
}

/** The job at its end, whoever runs it then. */
async function endOf(id: string): Promise<Job> {
  const lookAt = () => client.job(id).catch(() => undefined)
  for (const deadline = Date.now() + 60_000; Date.now() < deadline; await delay(50)) {
    const job = await lookAt()
    if (job && job.state !== 'queued' && job.state !== 'running') return job
  }
  throw new Error('the job did not come to its end within 60 s', { cause: await lookAt() })
}

/** A job as whoever follows it hears of its end, whatever is killed meanwhile. */
async function followed(id: string): Promise<Job | undefined> {
  let last: Job | undefined
  for await (const job of client.followJob(id)) last = job
  return last
}

async function killPostgres(): Promise<void> {
  cluster.process.kill('SIGKILL')
  while (cluster.process.exitCode === null && cluster.process.signalCode === null) await delay(5)
  cluster = await startCluster({ dataDir, port: postgresPort })
}

async function killService(): Promise<void> {
  service.process.kill('SIGKILL')
  const port = Number(new URL(service.url).port)
  service = await startService({ root: ROOT, configFile, dataDir, url: `http://127.0.0.1:${port}`, env })
}

/** Has the service end as an operator does, and begins it again. @returns how long the end took, in milliseconds */
async function restartService(): Promise<number> {
  const started = performance.now()
  await service.stop()
  const took = performance.now() - started
  const port = Number(new URL(service.url).port)
  service = await startService({ root: ROOT, configFile, dataDir, url: `http://127.0.0.1:${port}`, env })
  return took
}

/** What whoever watches the waits hears at last. */
async function watchedWaits(): Promise<string> {
  try {
    for await (const _ of target.watchWaits());
    return 'ended'
  } catch (error) {
    return isProblem(error) ? error.code : String(error)
  }
}

/** Begins a job of many chunks. */
async function beginLot(amount: number): Promise<Job> {
  await makeLot(JOB_ROWS)
  const file = `id,amount\n${Array.from({ length: JOB_ROWS }, (_, at) => `${at + 1},${amount}`).join('\n')}\n`
  return target.beginFileJob(new Blob([file]), 'csv', { mapping: 'lot', mode: 'commit', chunk: JOB_CHUNK })
}

/** Begins one, has something done in the middle of it, and waits for its end. */
async function jobWith(kill: () => Promise<void>, round: number): Promise<Job> {
  const { id } = await beginLot(round + 1)
  while (((await client.job(id).catch(() => undefined))?.progress.chunk ?? 0) < 1 + (round % 5)) await delay(5)
  await kill()
  return endOf(id)
}

/** Every row written once, with one image, by chunks that stand in the book once each. */
async function expectAppliedOnce({ id, state, report, problem }: Job, round: number): Promise<void> {
  expect([problem ?? null, state, report?.matched, report?.changed]).toEqual([null, 'done', JOB_ROWS, JOB_ROWS])
  expect(await sql(`select amount, row_version, count(*)::int as rows from lot group by 1, 2`)).toEqual([
    { amount: round + 1, row_version: 2, rows: JOB_ROWS },
  ])
  expect(
    await sql(`select count(*)::int as chunks, sum(e.changed)::int as changed, sum((select sum(rows) from ledgerman.image_block b where b.entry = e.id))::int as images
      from ledgerman.entry e where e.outcome = 'committed' and e.run->>'job' = '${id}'`),
  ).toEqual([{ chunks: JOB_ROWS / JOB_CHUNK, changed: JOB_ROWS, images: JOB_ROWS }])
}

describe('a job in chunks', () => {
  it(
    `is applied once, whole, though PostgreSQL is killed in the middle of it, ${JOB_KILLS} times`,
    async () => {
      for (let kill = 0; kill < JOB_KILLS; kill++) await expectAppliedOnce(await jobWith(killPostgres, kill), kill)
    },
    60_000 + JOB_KILLS * 30_000,
  )

  it(
    `is applied once, whole, though the service that runs it is killed, ${JOB_KILLS} times`,
    async () => {
      for (let kill = 0; kill < JOB_KILLS; kill++) await expectAppliedOnce(await jobWith(killService, kill), kill)
    },
    60_000 + JOB_KILLS * 30_000,
  )
})

describe('a service that is stopped', () => {
  it('does not wait for those who follow a job or watch who waits: the job goes on with the next one, and so do its followers', async () => {
    const { id } = await beginLot(1)
    const [ended, watched] = [followed(id), watchedWaits()]
    while (((await client.job(id)).progress.chunk ?? 0) < 1) await delay(5)
    // An operator's limit for what still runs is 20 s.
    expect(await restartService()).toBeLessThan(8_000)
    await expectAppliedOnce((await ended) as Job, 0)
    expect(await watched).toBe('target-unavailable')
  })
})

describe('entries and changes', () => {
  it(
    `agree after PostgreSQL was killed ${KILLS} times in the middle of changes`,
    async () => {
      const told: string[] = []
      for (let kill = 0; kill < KILLS; kill++) {
        const running = load()
        await running.hasCommitted(1)
        await delay(17 * (kill % 7))
        await killPostgres()
        await delay(30)
        told.push(...(await running.stop()))
      }
      expect(await expectBookAndTableAgree(told)).toBeGreaterThanOrEqual(KILLS)
    },
    60_000 + KILLS * 8_000,
  )

  it(
    `agree after the service was killed ${KILLS} times in the middle of changes`,
    async () => {
      const told: string[] = []
      for (let kill = 0; kill < KILLS; kill++) {
        const running = load()
        await running.hasCommitted(1)
        await delay(17 * (kill % 7))
        await killService()
        await delay(30)
        told.push(...(await running.stop()))
      }
      expect(await expectBookAndTableAgree(told)).toBeGreaterThanOrEqual(KILLS)
    },
    60_000 + KILLS * 8_000,
  )
})

describe('a service that is killed', () => {
  it('leaves nothing behind that goes on holding locks', async () => {
    const holder = new pg.Client({ connectionString: cluster.adminUrl('tally') })
    await holder.connect()
    try {
      await holder.query('begin; select from tally where id = 1 for update')
      const steps = [FIRST_POT, 1].map((id) => ({
        change: 'tally',
        key: { id: String(id) },
        compute: { amount: 'amount + 1' },
      }))
      const waiting = `select pid from pg_stat_activity where application_name like 'ledgerman%' and wait_event_type = 'Lock'`
      void target.run({ mode: 'rehearse', steps, lockWait: '60s', timeLimit: '60s' }).catch(() => undefined)
      while ((await sql(waiting)).length === 0) await delay(20)
      await killService()
      const until = Date.now() + 5_000
      while ((await sql(waiting)).length > 0 && Date.now() < until) await delay(50)
      expect(await sql(waiting)).toEqual([])
    } finally {
      await holder.end()
    }
  })
})

describe('a reversal of many rows', () => {
  it('is done once, whole, though the service, or PostgreSQL, is killed in the middle of it', async () => {
    const rows = 60_000
    for (const [round, kill] of [killService, killPostgres].entries()) {
      await makeLot(rows)
      const begun = await target.beginJob({
        mode: 'commit',
        mapping: 'lot',
        compute: { amount: 'amount + 1' },
        everyRow: true,
        expect: rows,
      })
      const { entries } = await endOf(begun.id)
      const { id } = (await target.reverse(entries[0] ?? '', { mode: 'commit' })) as Job
      while ((await client.job(id)).state === 'queued') await delay(5)
      const ended = followed(id)
      await delay(60 + 60 * round)
      await kill()
      expect(await ended).toMatchObject({ state: 'done', report: { matched: rows, changed: rows } })
      expect(await sql(`select amount, row_version, count(*)::int as rows from lot group by 1, 2`)).toEqual([
        { amount: 0, row_version: 3, rows },
      ])
      const reversals = `select count(*)::int as n from ledgerman.entry where outcome = 'committed' and run->'reverses' ? '${entries[0]}'`
      expect(await sql(reversals)).toEqual([{ n: 1 }])
    }
  }, 180_000)
})
