import type { Job } from '@ledgerman/contract'
import { makeDatabase, type TestDatabase } from '../../../../testing/databases.js'
import { openProxy, type Proxy } from '../../../../testing/proxy.js'
import { startTestService, type RunningService } from '../../../../testing/running-service.js'

// A job whose database is away for longer than it is asked what became of a commit, as for a restart.
let database: TestDatabase
let proxy: Proxy
let service: RunningService
const ROWS = 2_000
const AWAY_MS = 3_000

beforeAll(async () => {
  database = await makeDatabase()
  await database.sql(`create table lot (id integer primary key, amount integer not null, row_version integer not null default 1);
    insert into lot select n, 0 from generate_series(1, ${ROWS}) n; grant all on lot to ledgerman_worker`)
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

/** Has everything cut from the nth COMMIT on, until the database is back. */
function cutAtCommit(nth: number, verdict: 'cut' | 'cutAnswer'): void {
  let left = nth
  let isAway = false
  const rules: Proxy['rules'] = {
    onRequest: (text) => {
      if (isAway) return 'cut'
      if (!/\bcommit\0/i.test(text) || --left > 0) return 'pass'
      isAway = true
      // The next cut is not ended by this one's time.
      setTimeout(() => delete rules.onRequest, AWAY_MS)
      return verdict
    },
  }
  proxy.rules = rules
}

const fileOf = (amount: number) =>
  `id,amount\n${Array.from({ length: ROWS }, (_, at) => `${at + 1},${amount}`).join('\n')}\n`

it.each([
  ['in chunks, whose commit did not arrive', 'cut', 500],
  ['in chunks, whose commit was done', 'cutAnswer', 500],
  ['in one statement, whose commit did not arrive', 'cut', undefined],
  ['in one statement, whose commit was done', 'cutAnswer', undefined],
] as const)('a job %s, goes on when the database is back, and is applied once', async (_, verdict, chunk) => {
  const [before] = await database.sql('select amount from lot where id = 1')
  cutAtCommit(chunk === undefined ? 1 : 2, verdict)
  const next = Number(before?.['amount']) + 1
  const far = service.client.target('far')
  const { id } = chunk
    ? await far.beginFileJob(new Blob([fileOf(next)]), 'csv', { mapping: 'lot', mode: 'commit', chunk })
    : await far.beginJob({
        mode: 'commit',
        mapping: 'lot',
        everyRow: true,
        expect: ROWS,
        compute: { amount: 'amount + 1' },
      })
  let last: Job | undefined
  for await (const job of service.client.followJob(id)) last = job
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
