import { isProblem, type EntryInfo, type LedgermanProblem } from '@ledgerman/contract'
import { startTestService, type RunningService } from '../../../../testing/running-service.js'

// A record that is given another key is the same record: by its old key and its new one it is told what became of it.
let service: RunningService
const target = () => service.client.target('observatory')
const commit = { mode: 'commit' as const, guard: '*' }
const dome = (code: string, wing = 'north') => [code, wing]
const entriesOf = async (code: string) =>
  (await target().entries({ mapping: 'dome', key: dome(code), limit: 10 })).entries.map(({ id }) => id)
const namesOf = async (code: string) =>
  (await target().history('dome', dome(code))).history.map(({ kind, changes }) => [
    kind,
    ...changes.map((each) => each.property),
  ])

beforeAll(async () => {
  service = await startTestService()
  await service.observatory.sql(`create table dome (code text, wing text, name text, primary key (code, wing));
    grant all on dome to ledgerman_worker; insert into dome values ('D1', 'north', 'One'), ('D1', 'south', 'Other')`)
  const properties = { code: { column: 'code' }, wing: { column: 'wing', fixed: true }, name: { column: 'name' } }
  const mapping = {
    mapping: 'dome',
    table: 'public.dome',
    key: ['code', 'wing'],
    guard: { by: 'rowStamp' },
    properties,
  }
  await target().publishMapping('dome', JSON.stringify(mapping))
})
afterAll(() => service.stop())

it('has its history under both keys, and is put back by either entry', async () => {
  const { guard } = await target().load('dome', dome('D1'))
  const named = await target().change('dome', dome('D1'), { name: 'Two' }, commit)
  const [now] = await service.observatory.sql(
    `select to_char(clock_timestamp() at time zone 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS.US"Z"') as at`,
  )
  const before = String(now?.['at'])
  const moved = await target().change('dome', dome('D1'), { code: 'D2' }, commit)
  const [first, second] = [named, moved].map(({ receipt }) => receipt.id) as [string, string]
  expect([await entriesOf('D1'), await entriesOf('D2')]).toEqual([[second, first], [second]])
  expect(await namesOf('D1')).toEqual([
    ['changed', 'code'],
    ['changed', 'name'],
  ])
  expect(await namesOf('D2')).toEqual([['changed', 'code']])
  // What it was before it had this key stands under the other.
  expect((await target().loadAsOf('dome', dome('D1'), before)).record).toEqual({
    code: 'D1',
    wing: 'north',
    name: 'Two',
  })
  expect(await target().loadAsOf('dome', dome('D2'), before)).toMatchObject({ record: null })

  const stale = await target()
    .change('dome', dome('D1'), { name: 'Three' }, { mode: 'commit', guard: guard ?? '' })
    .catch((error: unknown) => error as LedgermanProblem)
  expect([isProblem(stale, 'no-such-record'), (stale as LedgermanProblem).facts['moved']]).toMatchObject([
    true,
    { actor: 'admin', key: { code: 'D2', wing: 'north' } },
  ])
  const told: EntryInfo = await target().entry(second)
  expect(told.receipt.steps[0]?.rows).toEqual([
    { key: { code: 'D1', wing: 'north' }, before: { code: 'D1' }, after: { code: 'D2' } },
  ])
  expect(await target().reverse(second, { mode: 'commit' })).toMatchObject({ outcome: 'committed' })
  expect(await target().reverse(first, { mode: 'commit' })).toMatchObject({ outcome: 'committed' })
  expect(await service.observatory.sql('select * from dome order by code, wing')).toEqual([
    { code: 'D1', wing: 'north', name: 'One' },
    { code: 'D1', wing: 'south', name: 'Other' },
  ])
  expect((await namesOf('D2')).map(([kind]) => kind)).toEqual(['reversed', 'changed'])
})

it('is the same object of a draft', async () => {
  const desk = service.client.draft<{ dome: { code: string; wing: string; name: string } }>('observatory')
  const south = await desk.load('dome', { code: 'D1', wing: 'south' })
  south.code = 'D7'
  await desk.commit()
  south.name = 'Seven'
  await desk.commit()
  expect((await target().load('dome', dome('D7', 'south'))).record).toEqual({
    code: 'D7',
    wing: 'south',
    name: 'Seven',
  })
})
