import type { Job } from '@ledgerman/contract'
import { makeDatabase, type TestDatabase } from '../../../../testing/databases.js'
import { openProxy, type Proxy } from '../../../../testing/proxy.js'
import { startTestService, type RunningService } from '../../../../testing/running-service.js'

// Jobs that two services run, since one was held up for so long that the other took it to be gone.
let database: TestDatabase
let proxy: Proxy
let first: RunningService
let second: RunningService | undefined
/** So many that putting them back is a job. */
const ROWS = 50_000
const CHUNK = 25_000

beforeAll(async () => {
  database = await makeDatabase()
  await database.sql(`create table crate (id integer primary key, state text not null default 'open');
    insert into crate select n from generate_series(1, ${ROWS}) n; insert into crate values (0, 'lost'); grant all on crate to ledgerman_worker`)
  proxy = await openProxy(database.url)
  first = await startTestService({
    extraTargets: { yard: proxy.urlOf(database.url), near: database.url },
    homeBy: (url) => proxy.urlOf(url),
    isPrepared: false,
  })
  const properties = 'id: { column: id }, state: { column: state }'
  const crate = `{ mapping: crate, table: public.crate, key: [id], guard: { by: none }, properties: { ${properties} } }`
  for (const name of ['yard', 'near']) {
    await first.client.target(name).prepareBook()
    await first.client.target(name).publishMapping('crate', crate)
  }
})
afterAll(async () => {
  await second?.stop()
  await first?.stop()
  await proxy?.close()
  await database?.drop()
})
beforeEach(() => database.sql(`update crate set state = 'open' where id > 0`))

const stateNow = async () =>
  (await database.sql('select distinct state from crate where id > 0')).map(({ state }) => state)

function begin(chunk?: number): Promise<Job> {
  const yard = first.client.target('yard')
  if (chunk === undefined)
    return yard.beginJob({
      mode: 'commit',
      mapping: 'crate',
      where: `state = 'open'`,
      values: { state: 'packed' },
      expect: ROWS,
    })
  const lines = Array.from({ length: ROWS }, (_, at) => `${at + 1},packed`)
  const file = new Blob([`id,state\n${lines.join('\n')}\n`])
  return yard.beginFileJob(file, 'csv', { mapping: 'crate', mode: 'commit', chunk })
}

async function endOf({ id }: Job, service = first): Promise<Job | undefined> {
  let last: Job | undefined
  for await (const job of service.client.followJob(id)) last = job
  return last
}

/** Begins a job whose rows are held. */
function beginHeld(chunk?: number) {
  return async (hold: () => Promise<unknown>) => {
    await hold()
    return begin(chunk)
  }
}

/** Begins to put back what a job did. */
async function beginToPutBack(hold: () => Promise<unknown>): Promise<Job> {
  const done = await endOf(await begin())
  await hold()
  const answer = await first.client.target('yard').reverse(done?.entries[0] ?? '', { mode: 'commit' })
  if (!('kind' in answer)) throw new Error('so many rows are put back by a job')
  return answer
}

it.each([
  ['in one statement, whose rows no longer match', beginHeld(), ROWS, '', 'packed'],
  ['in chunks', beginHeld(CHUNK), CHUNK, ':1', 'packed'],
  ['that puts back', beginToPutBack, ROWS, '', 'open'],
] as const)('a job %s, is done where another service has committed it meanwhile', async (_, start, part, no, after) => {
  const other = await database.session()
  const job = await start(() => other.query('begin; lock table crate in exclusive mode'))
  while ((await waiting()) === 0) await pause()
  // What it would have written, and its entry.
  await other.query(`update crate set state = '${after}' where id between 1 and ${part}`)
  const report = { matched: part, changed: part, same: 0, added: 0, notFound: 0, ambiguous: 0, refused: 0 }
  const run = after === 'open' ? {} : { report: { ...report, sample: [], rows: [] } }
  const { rows } = await other.query<{ id: string }>(
    `insert into ledgerman.entry (id, actor, outcome, matched, changed, run, steps, request_key, request_digest)
     values (gen_random_uuid(), 'admin', 'committed', $1, $1, $2, '[]', $3, '') returning id`,
    [part, run, `job:${job.id}${no}`],
  )
  await other.query('commit')
  await other.end()
  const last = await endOf(job)
  expect([last?.problem ?? null, last?.state, last?.report?.changed]).toEqual([null, 'done', ROWS])
  expect(last?.entries).toContain(rows[0]?.id)
  expect(await stateNow()).toEqual([after])
})

it('a service that was held up commits nothing of a job that another has told the end of', async () => {
  let release: () => void = () => undefined
  const isReleased = new Promise<void>((resolve) => (release = resolve))
  const isHeldUp = new Promise<void>((resolve) => {
    proxy.rules = {
      onRequest: (text) => {
        if (!text.includes('update public.crate')) return 'pass'
        // It gets no answer any more, neither of its home database nor of the target, whose rows it has locked.
        proxy.rules.onAnswer = () => isReleased
        resolve()
        return 'pass'
      },
    }
  })
  const job = await begin()
  await isHeldUp
  second = await startTestService({
    extraTargets: { yard: database.url },
    homeBy: () => first.home.ownerUrl,
    isPrepared: false,
  })
  const { client } = second
  // The other has taken it, finds the rows locked, and does not give up for that.
  const refusals = () =>
    database.sql(`select 1 from ledgerman.entry where problem = 'lock-timeout' and run->>'job' = $1`, [job.id])
  while ((await refusals()).length === 0) await pause()
  expect(['queued', 'running']).toContain((await client.job(job.id)).state)
  await client.cancelJob(job.id)
  expect((await endOf(job, second))?.state).toBe('cancelled')
  release()
  proxy.rules = {}
  await database.sql(`set lock_timeout = 10000; lock table crate in access exclusive mode`)
  expect(await stateNow()).toEqual(['open'])
  const again = await client.resumeJob(job.id)
  expect([(await endOf(again, second))?.state, await stateNow()]).toEqual(['done', ['packed']])
})

it('a service whose home database was away for longer than it may hold a job goes on with it, and nobody beside it', async () => {
  const slow = 200
  await database.sql(`create function slowly() returns trigger language plpgsql as 'begin perform pg_sleep(0.05); return new; end';
    create trigger slowly before update on crate for each row when (old.id <= ${slow}) execute function slowly()`)
  const job = await first.client.target('near').beginJob({
    ...{ mode: 'commit', mapping: 'crate', where: `state = 'open' and id <= ${slow}`, expect: slow },
    values: { state: 'packed' },
  })
  await pause(1_200)
  proxy.rules = { onRequest: () => 'cut' }
  // Whoever looks for jobs does so before it is renewed again, a second after it was begun and every second since.
  await pause(5_900)
  proxy.rules = {}
  const last = await endOf(job)
  await database.sql('drop trigger slowly on crate')
  expect([last?.problem ?? null, last?.state, last?.report?.changed]).toEqual([null, 'done', slow])
  const entries = await database.sql('select outcome from ledgerman.entry where run @> $1', [{ job: job.id }])
  expect(entries).toEqual([{ outcome: 'committed' }])
})

it('a job that finds all sessions of its database taken is done when there are some again', async () => {
  const other = await database.session()
  const job = await beginHeld()(() => other.query('begin; lock table crate in exclusive mode'))
  while ((await waiting()) === 0) await pause()
  await database.sql(`alter database "${database.name}" connection limit 0`)
  await database.sql(`select pg_terminate_backend(pid) from pg_stat_activity where ${IS_WAITING}`)
  await other.query('commit')
  await other.end()
  // A session is waited for 3 s, and the job begun again then.
  await pause(4_500)
  expect((await first.client.job(job.id)).state).toMatch(/queued|running/)
  expect(await stateNow()).toEqual(['open'])
  await database.sql(`alter database "${database.name}" connection limit -1`)
  const last = await endOf(job)
  expect([last?.problem ?? null, last?.state, last?.report?.changed]).toEqual([null, 'done', ROWS])
})

const pause = (ms = 20) => new Promise((resolve) => setTimeout(resolve, ms))

const IS_WAITING = `datname = current_database() and exists (select from pg_locks l where l.pid = pg_stat_activity.pid and not l.granted)`

async function waiting(): Promise<number> {
  const rows = await database.sql(`select count(*)::int as n from pg_stat_activity where ${IS_WAITING}`)
  return Number(rows[0]?.['n'])
}
