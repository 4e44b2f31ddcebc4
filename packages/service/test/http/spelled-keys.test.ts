import { type LedgermanProblem } from '@ledgerman/contract'
import { startTestService, type RunningService } from '../../../../testing/running-service.js'

// Two ways to write a key are one record wherever the database says so: the book has it as it stands in the table.
let service: RunningService
const target = () => service.client.target('observatory')
const commit = { mode: 'commit' as const, guard: '*' }

/** A type, what is stored as it is answered, and two other ways to write it. */
const KEYS: [string, string, string, string, string][] = [
  ['lamp', 'numeric', '1.0', '1', '1.000'],
  ['grid', 'numeric(6,2)', '2.50', '2.5', '2.5000'],
  ['pause', 'interval', 'P1D', 'PT24H', 'P0DT1440M'],
  ['depth', 'float8', '-0', '0', '0.0'],
  ['label', 'text collate public.any_case', 'Vega', 'VEGA', 'vega'],
  ['alias', 'ext.citext', 'Straße', 'STRAßE', 'straße'],
  ['spot', 'jsonb', '{"a": 1.0}', '{"a":1}', '{"a":1.00}'],
]

beforeAll(async () => {
  service = await startTestService()
  await service.observatory
    .sql(`create schema ext; create extension citext schema ext; grant usage on schema ext to ledgerman_worker;
    create collation public.any_case (provider = icu, locale = 'und-u-ks-level2', deterministic = false)`)
  for (const [name, type, stored] of KEYS) {
    await service.observatory.sql(
      `create table ${name} (id ${type} primary key, worth int); grant all on ${name} to ledgerman_worker; insert into ${name} values ('${stored}', 0)`,
    )
    const properties = { id: { column: 'id' }, worth: { column: 'worth' } }
    const mapping = { mapping: name, table: `public.${name}`, key: ['id'], guard: { by: 'rowStamp' }, properties }
    await target().publishMapping(name, JSON.stringify(mapping))
  }
})
afterAll(() => service.stop())

it.each(KEYS)(
  'finds what was done to a %s, whose key is %s, however it is written',
  async (name, _, stored, ...ways) => {
    const known: string[] = []
    const { guard: first } = await target().load(name, [stored])
    for (const [at, way] of [...ways, stored].entries())
      known.unshift((await target().change(name, [way], { worth: at + 1 }, commit)).receipt.id)
    for (const way of [...ways, stored]) {
      const { entries } = await target().entries({ mapping: name, key: [way], outcome: 'committed', limit: 10 })
      expect(entries.map(({ id }) => id)).toEqual(known)
      const { history } = await target().history(name, [way])
      expect(history.map(({ entry }) => entry)).toEqual(known)
      const stale = target().change(
        name,
        [way],
        { worth: 9 },
        { mode: 'commit', guard: first ?? '', loaded: { worth: 0 } },
      )
      const { facts } = (await stale.catch((error: unknown) => error)) as LedgermanProblem
      expect(facts['by']).toMatchObject({ worth: { actor: 'admin' } })
    }
    for (const entry of known)
      expect(await target().reverse(entry, { mode: 'commit' })).toMatchObject({ outcome: 'committed' })
    expect((await target().load(name, [stored])).record).toMatchObject({ worth: 0 })
  },
)

it('follows a record whose key is written in another way', async () => {
  const [now] = await service.observatory.sql(
    `select to_char(clock_timestamp() at time zone 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS.US"Z"') as at`,
  )
  const before = String(now?.['at'])
  await target().change('alias', ['Straße'], { worth: 5 }, commit)
  const { receipt } = await target().change('alias', ['straße'], { id: 'STRAßE' }, commit)
  expect(receipt).toMatchObject({ steps: [{ changed: 1 }], reversible: 'yes' })
  expect(await target().loadAsOf('alias', ['Straße'], before)).toMatchObject({
    record: { id: 'Straße', worth: 0 },
    sure: true,
  })
  // By its present key the book has it since then only: it does not say for certain that it was not there.
  expect(await target().loadAsOf('alias', ['STRAßE'], before)).toMatchObject({ record: null, sure: false })
  const { history } = await target().history('alias', ['Straße'])
  expect(history.slice(0, 2).map(({ changes }) => changes.map(({ property }) => property))).toEqual([['id'], ['worth']])
  await target().reverse(receipt.id, { mode: 'commit' })
  expect(await service.observatory.sql('select * from alias')).toEqual([{ id: 'Straße', worth: 5 }])
})
