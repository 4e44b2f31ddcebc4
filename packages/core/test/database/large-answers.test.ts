import {
  changeRecord,
  exportRecords,
  findRecords,
  getEntry,
  listEntries,
  loadRecord,
  parseKeyParts,
  resolvePlan,
  runPlan,
  type Mapping,
} from '@ledgerman/core'
import { onceItAnswers } from '../../../../testing/once-it-answers.js'
import { openOwnTables, type OwnTables } from '../../../../testing/own-tables.js'

// Rows and errors of a database that are larger than may be held: nobody else waits for them, and what was changed is told as it is.

let own: OwnTables
let mapping: Mapping
const commit = { mode: 'commit', actor: 'test' } as const
const noOther = () => Promise.reject(new Error('there is no other mapping'))
const tooLarge = (limitBytes: number) => ({ code: 'too-large', facts: { limitBytes } })

beforeAll(async () => {
  own = await openOwnTables(
    {},
    { limits: { lockWaitMs: 2_000, timeLimitMs: 10_000, idleMs: 15_000, answerBytes: 1_000_000 } },
  )
  mapping = await own.mapped(
    'public.plate',
    `create table plate (id integer primary key, scan text, note text);
     insert into plate select n, case when n > 100 then repeat(md5(n::text), 1250) else 'short' end, 'n' from generate_series(1, 200) n;
     create function speak() returns trigger language plpgsql as $$ begin
       if new.note = 'grow' then new.scan := repeat('g', 9000000); end if;
       if new.note = 'shout' then raise exception 'first % last', repeat('x', 300000) using hint = repeat('y', 300000); end if;
       return new; end $$;
     create trigger speak before update on plate for each row execute function speak()`,
    { guard: { by: 'none' } },
  )
})
afterAll(() => own.close())

const key = (id: number) => parseKeyParts(mapping, [String(id)])
const change = (id: number, note: string) =>
  changeRecord(own.target, mapping, { ...commit, guard: 'any', key: key(id), values: { note } })

it('are told, and may be asked for in parts', async () => {
  await expect(findRecords(own.target, mapping, { limit: 100, order: 'id desc' }, noOther)).rejects.toMatchObject(
    tooLarge(1_000_000),
  )
  expect((await findRecords(own.target, mapping, { limit: 20, order: 'id desc' }, noOther)).found).toHaveLength(20)
  const { batches } = await exportRecords(own.target, mapping, { form: 'ndjson', withGuard: false } as never, noOther)
  const lines: string[] = []
  for await (const batch of batches) lines.push(...(batch as string[]))
  expect(lines).toHaveLength(200)
  expect(lines.join('').length).toBeGreaterThan(4_000_000)
})

it('leave a change that is told as refused undone, and one that is told as committed done', async () => {
  const told = await change(10, 'grow').then(
    // The server had committed it before it was broken off.
    ({ receipt, record }) => ({ grown: 1, record, words: receipt.notShown }),
    (error: { code: string }) => ({ grown: 0, record: {}, words: [error.code] }),
  )
  expect(told).toMatchObject({ record: {}, words: [expect.stringMatching(/could not be read again|too-large/)] })
  const steps = [
    { change: 'plate', where: 'id in (1, 2)', values: { note: 'grow' }, expect: 2 },
    { load: 'plate', where: 'id = 1', expect: 'one' },
  ]
  const plan = await resolvePlan(own.target, { params: {}, steps }, null, null, () => Promise.resolve(mapping))
  await expect(runPlan(own.target, plan, { ...commit, params: {} })).rejects.toMatchObject(tooLarge(4_000_000))
  const [{ grown } = {}] = await own.database.sql(
    'select count(*)::int as grown from plate where length(scan) > 2000000',
  )
  expect(grown).toBe(told.grown)
  const [refused] = await own.database.sql('select problem from ledgerman.entry order by id desc limit 1')
  expect(refused).toEqual({ problem: 'too-large' })
  expect((await change(1, 'meanwhile')).record).toMatchObject({ note: 'meanwhile', scan: 'short' })
})

it('keep nobody from the list of entries', async () => {
  const values = { scan: 's'.repeat(1_500_000) }
  const { receipt } = await changeRecord(own.target, mapping, { ...commit, guard: 'any', key: key(11), values })
  const none = () => Promise.resolve(undefined)
  const { entries } = await listEntries(own.target, { limit: 5 } as never, none)
  expect(entries[0]).toMatchObject({ id: receipt.id, outcome: 'committed' })
  await expect(getEntry(own.target, receipt.id, none)).rejects.toMatchObject(tooLarge(1_000_000))
})

it('end no other caller of the same moment', async () => {
  await own.database.sql(`update plate set scan = repeat('h', 9000000) where id = 3`)
  const loads = await Promise.allSettled(
    Array.from({ length: 12 }, (_, at) =>
      onceItAnswers(() => loadRecord(own.target, mapping, key(1 + (at % 3))), 'Nothing was sent'),
    ),
  )
  expect(loads.map((load) => (load.status === 'rejected' ? load.reason : load.value.record))).toMatchObject(
    Array.from({ length: 12 }, (_, at) => (at % 3 === 2 ? tooLarge(4_000_000) : { id: 1 + (at % 3) })),
  )
})

it('keep the beginning and the end of what an error says', async () => {
  const refused = change(2, 'shout')
  await expect(refused).rejects.toMatchObject({ code: 'rule-broken' })
  const { detail } = (await refused.catch((error: { detail: string }) => error)) as { detail: string }
  expect(detail).toMatch(/first x+ … \(\d+ characters more\) … x+ last/)
  expect(detail.length).toBeLessThan(20_000)
})
