import { randomUUID } from 'node:crypto'
import { isProblem, type StepDefinition } from '@ledgerman/contract'
import {
  changeRecord,
  parseKeyParts,
  prepareBook,
  readHistory,
  resolvePlan,
  reverseEntries,
  runPlan,
  Target,
  type Mapping,
} from '@ledgerman/core'
import { openOwnTables, type OwnTables } from '../../../../testing/own-tables.js'

// Many change the same two records at once, through two services: the book knows in which order they did.
let own: OwnTables
let other: Target
let mapping: Mapping
beforeAll(async () => {
  own = await openOwnTables()
  mapping = await own.mapped(
    'public.tally',
    `create table tally (code text primary key, n integer not null); insert into tally values ('A', 1), ('B', 2)`,
    { guard: { by: 'none' } },
  )
  other = new Target({ name: 'own', url: own.database.url, connections: 10, digestKey: Buffer.from('k') })
  await prepareBook(other)
})
afterAll(async () => {
  await other.close()
  await own.close()
})

const options = { mode: 'commit', actor: 'test', guard: 'any' } as const
const rows = () => own.database.sql('table tally order by code')

it('is that in which they wrote: history tells of nothing outside, and all of it is put back', async () => {
  const before = await rows()
  const steps: StepDefinition[] = ['A', 'B'].map((code) => ({
    change: 'tally',
    key: { code: `'${code}'` },
    guard: 'any',
    compute: { n: 'n + 1' },
  }))
  const find = () => Promise.resolve(mapping)
  const plan = await resolvePlan(own.target, { params: {}, steps }, null, null, find)
  const keyOf = (code: string) => parseKeyParts(mapping, [code])
  // On a busy machine so many may wait too long for a session, or a lock: then nothing was changed, and they come again.
  const comingAgain = async (work: () => Promise<unknown>): Promise<unknown> => {
    for (;;) {
      const done = await work().catch((error: unknown) => {
        if (!isProblem(error, 'too-many-requests', 'lock-timeout')) throw error
      })
      if (done !== undefined) return done
    }
  }
  await Promise.all(
    Array.from({ length: 90 }, (_, at) => {
      const target = at % 2 === 0 ? own.target : other
      if (at % 5 === 0) return comingAgain(() => runPlan(target, plan, { ...options, params: {} }))
      const change = { ...options, key: keyOf(at % 3 === 0 ? 'A' : 'B'), values: { n: 1_000 + at } }
      return comingAgain(() => changeRecord(target, mapping, change))
    }),
  )
  for (const code of ['A', 'B']) {
    const { history } = await readHistory(own.target, mapping, keyOf(code), { limit: 500 })
    expect(history.length).toBeGreaterThan(30)
    expect(history.filter(({ kind }) => kind === 'outside')).toEqual([])
  }
  const written = await own.database.sql(`select id from ledgerman.entry where outcome = 'committed' and changed > 0`)
  await reverseEntries(
    own.target,
    written.map(({ id }) => id as string),
    find,
    {
      job: randomUUID(),
      mode: 'commit',
      actor: 'test',
      note: null,
      onlyUnchanged: false,
      timeLimitMs: 10_000,
      signal: new AbortController().signal,
      onProgress: () => undefined,
    },
  )
  expect(await rows()).toEqual(before)
})
