import { setTimeout as delay } from 'node:timers/promises'
import pg from 'pg'
import type { LedgermanProblem, Receipt } from '@ledgerman/contract'
import { compileCode } from '../../../../testing/compiled-code.js'
import { counts, startReadingJobs } from '../reading-jobs.js'

// A table is rewritten between the snapshot of a transaction and its first statement: to that snapshot PostgreSQL shows it as empty.
let readings: Awaited<ReturnType<typeof startReadingJobs>>
beforeAll(async () => {
  readings = await startReadingJobs()
  await readings.sql('alter table reading add filler integer')
})
afterAll(() => readings.service.stop())

async function isWaitedFor(holder: Awaited<ReturnType<typeof readings.service.observatory.session>>): Promise<boolean> {
  const { rowCount } = await holder.query(
    `select from pg_locks where not granted and locktype = 'relation' and relation = 'reading'::regclass`,
  )
  return rowCount !== 0
}

/** Asks while somebody alters the table, who is done as soon as it is waited for. */
async function whileRewritten<T>(ask: () => Promise<T>): Promise<T> {
  const holder = await readings.service.observatory.session()
  const [type] =
    await readings.sql(`select case format_type(atttypid, null) when 'integer' then 'bigint' else 'integer' end as other
    from pg_attribute where attrelid = 'reading'::regclass and attname = 'filler'`)
  await holder.query(`begin; alter table reading alter filler type ${type?.['other'] as string}`)
  const asked = ask()
  const isOver = asked.then(
    () => true,
    () => true,
  )
  while (!(await Promise.race([isOver, isWaitedFor(holder)]))) await delay(20)
  await holder.query('commit')
  await holder.end()
  return asked
}

const target = () => readings.service.client.target('observatory')
const run = (steps: object[], more: object): Promise<Receipt> =>
  target().run({ steps, isolation: 'repeatable read', ...more } as never)
const CHANGE_ONE = [{ change: 'reading', key: { id: '7' }, compute: { level: 'level + 1' } }]
const CHANGE_SOME = [
  { change: 'reading', where: 'id between 11 and 20', compute: { level: 'level + 1' }, expect: 'any' },
]

describe('what a transaction cannot see is not told as missing', () => {
  it.each(['rehearse', 'commit'])('by a run of one record, in mode %s', async (mode) => {
    const { steps } = await whileRewritten(() => run(CHANGE_ONE, { mode, retry: 2 }))
    expect(steps[0]).toMatchObject({ matched: 1, changed: 1 })
  })

  it.each(['rehearse', 'commit'])('by a run of all that match, in mode %s', async (mode) => {
    const { steps, attempts } = await whileRewritten(() => run(CHANGE_SOME, { mode, retry: 2 }))
    expect([steps[0]?.matched, steps[0]?.changed, attempts]).toEqual([10, 10, 2])
  })

  it('by a run that is not tried again: it is refused for that', async () => {
    const problem: unknown = await whileRewritten(() => run(CHANGE_ONE, { mode: 'rehearse', retry: 0 })).catch(
      (error: unknown) => error,
    )
    expect((problem as LedgermanProblem).code).toBe('retries-exhausted')
    expect((problem as LedgermanProblem).detail).toMatch(
      /a table was rewritten \(ALTER TABLE\).*Nothing was changed; try again/,
    )
  })

  it('by written code', async () => {
    const source = `transaction: mark
isolation: repeatable read
retry: 1
steps: [{ change: reading, key: { id: "7" }, compute: { mark: "'by code'" }, expect: one }]`
    await target().publish([{ file: 'mark.yaml', source }])
    const code = await compileCode(await target().code({ mappings: ['reading'], transactions: ['mark'] }))
    const pool = new pg.Pool({ connectionString: readings.service.observatory.ownerUrl, max: 2 })
    const result = await whileRewritten(() => code.module.mark(pool, {}) as Promise<object>)
    expect(result).toMatchObject({ matched: 1, changed: 1 })
    await pool.end()
    code.remove()
  })

  it('by a job, of a condition or of a file in chunks, nor by its reversal', async () => {
    const change = { mapping: 'reading', where: 'id > 4000', values: { mark: 'late' }, expect: 'any' }
    const job = await whileRewritten(async () => readings.ended(await readings.begin({ mode: 'commit', ...change })))
    expect(counts(job)).toEqual({ matched: 1000, changed: 1000 })
    const file = `id,mark\n${Array.from({ length: 1000 }, (_, at) => `${at + 1},f`).join('\n')}\n`
    const sent = await whileRewritten(async () =>
      readings.ended(await readings.send(file, { mapping: 'reading', chunk: '500' })),
    )
    expect(counts(sent)).toEqual({ matched: 1000, changed: 1000 })
    await whileRewritten(async () => {
      for (const entry of job.entries) await target().reverse(entry, { mode: 'commit' })
    })
    expect(await readings.sql(`select count(*)::int as n from reading where mark = 'late'`)).toEqual([{ n: 0 }])
  })
})
