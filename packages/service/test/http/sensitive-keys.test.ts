import { isProblem } from '@ledgerman/contract'
import { startTestService, type RunningService } from '../../../../testing/running-service.js'

// Of a sensitive key the book has only digests: a record is found by it all the same, and put back, and the key is shown nowhere.
let service: RunningService
const target = () => service.client.target('observatory')
const commit = { mode: 'commit' as const, guard: '*' }
const ANN = ['ann@harrowfell.example', '3']

beforeAll(async () => {
  service = await startTestService()
  await service.observatory.sql(`create table badge (mail text, wing int, name text not null, primary key (mail, wing));
    grant all on badge to ledgerman_worker;
    insert into badge values ('ann@harrowfell.example', 3, 'Ann'), ('ann@harrowfell.example', 4, 'Other'), ('bob@harrowfell.example', 3, 'Bob')`)
  const properties = { mail: { column: 'mail', sensitive: true }, wing: { column: 'wing' }, name: { column: 'name' } }
  const mapping = {
    mapping: 'badge',
    table: 'public.badge',
    key: ['mail', 'wing'],
    guard: { by: 'rowStamp' },
    properties,
  }
  await target().publishMapping('badge', JSON.stringify(mapping))
})
afterAll(() => service.stop())

const rows = async () =>
  (await service.observatory.sql('select wing, name from badge order by mail, wing')).map(Object.values)
const kinds = async (key: string[]) => (await target().history('badge', key)).history.map(({ kind }) => kind)

it('a record is found in the book by its key, and what was done to it is put back', async () => {
  const before = await rows()
  const named = await target().change('badge', ANN, { name: 'Anna' }, commit)
  const all = await target().run({
    mode: 'commit',
    steps: [{ change: 'badge', where: 'wing = 3', expect: 2, compute: { name: "name || '!'" } }],
  })
  const moved = await target().change('badge', ANN, { wing: 9 }, commit)
  expect(await kinds(ANN)).toEqual(['changed', 'changed', 'changed'])
  const stale = await target()
    .change('badge', ANN, { name: 'Late' }, { mode: 'commit', guard: named.guard ?? '' })
    .catch((error: unknown) => error)
  expect(isProblem(stale, 'no-such-record') && stale.detail).toContain('It was given another key')
  expect(JSON.stringify(isProblem(stale) && [stale.detail, stale.facts])).not.toContain('@harrowfell')
  const { entries } = await target().entries({ mapping: 'badge', key: ['ann@harrowfell.example', '9'], limit: 5 })
  expect(entries.map(({ id }) => id)).toEqual([moved.receipt.id])
  for (const { id } of [moved.receipt, all, named.receipt]) {
    const reversed = await target().reverse(id, { mode: 'commit' })
    expect(reversed).toMatchObject({ outcome: 'committed' })
    expect(JSON.stringify(reversed)).not.toContain('@harrowfell')
  }
  expect(await rows()).toEqual(before)
  expect(await kinds(ANN)).toEqual(['reversed', 'reversed', 'reversed', 'changed', 'changed', 'changed'])
})

it('a removed one cannot be put back, and says so before and after', async () => {
  const { receipt } = await target().remove('badge', ['bob@harrowfell.example', '3'], commit)
  expect(receipt.reversible).toBe('no')
  const refused = await target()
    .reverse(receipt.id, { mode: 'commit' })
    .catch((error: unknown) => error)
  expect([isProblem(refused, 'not-reversible'), String((refused as Error).message)]).toEqual([
    true,
    expect.stringContaining('its key is sensitive'),
  ])
  expect(await kinds(['bob@harrowfell.example', '3'])).toEqual(['removed', 'reversed', 'changed'])
})
