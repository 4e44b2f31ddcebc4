import { randomUUID } from 'node:crypto'
import fc from 'fast-check'
import { isProblem, type LockHolder } from '@ledgerman/contract'
import { changeRecord, loadRecord, parseKeyParts, type Mapping } from '@ledgerman/core'
import { codeOf, openOwnTables, type OwnTables } from '../../../../testing/own-tables.js'
import type { Property } from '../../src/mapping/mapping.js'
import { buildKeyedWrite } from '../../src/statement/build-keyed-write.js'
import { buildSharedLoad } from '../../src/statement/build-load.js'
import type { Slot } from '../../src/statement/statement.js'

let own: OwnTables
let account: Mapping
const groups: number[] = []
const MAKE = `create table account (region text, no integer, amount numeric(8,2) check (amount >= 0), name varchar(8), open boolean not null default true,
    data jsonb, v integer not null default 1, primary key (region, no))`
const FILL = `insert into account select 'r,' || n % 2, n, 10 * n, 'n' || n, true, '{"a": 1e400}', n from generate_series(1, 8) n`

beforeAll(async () => {
  own = await openOwnTables({}, { activity: { grouped: (callers) => void groups.push(callers) } })
  account = await own.mapped('public.account', MAKE, {
    guard: { by: 'version', property: 'v' },
    rules: [{ that: 'amount < 500', otherwise: 'Too much.' }],
  } as never)
})
afterAll(() => own.close())

interface Ask {
  no: number
  actor: string
  guard: 'right' | 'stale' | 'any'
  values: Record<string, string | boolean | null>
}
const change = ({ no, actor, guard, values }: Ask, onWait?: (holders: LockHolder[]) => void) =>
  changeRecord(own.target, account, {
    key: parseKeyParts(account, [`r,${no % 2}`, String(no)]),
    values,
    guard: guard === 'any' ? 'any' : { guards: [guard === 'right' ? `v${no}` : 'v0', 'v-1'] },
    mode: 'commit',
    actor,
    note: `by ${actor}`,
    ...(onWait ? { onWait } : {}),
  })

/** How many callers, and how many groups, the database is asked for while some work is done. */
async function groupsOf(work: () => Promise<unknown>): Promise<{ callers: number; groups: number }> {
  groups.length = 0
  await work()
  return { callers: groups.reduce((sum, callers) => sum + callers, 0), groups: groups.length }
}

type GuardedBy = { guard: object; rules?: object[]; sensitive?: string }

describe('callers who ask at the same time', () => {
  const anyValues = fc.constantFrom<Ask['values'][]>(
    { amount: '7.5' },
    { amount: '-1' },
    { amount: '600' },
    { amount: null },
    { amount: '80.00' },
    { name: 'a"b\\,{}', amount: '3' },
    { name: 'NULL' },
    { open: false },
  )
  const anyAsk = fc.record({
    no: fc.integer({ min: 1, max: 9 }),
    actor: fc.constantFrom('ada', 'be"l', 'NULL'),
    guard: fc.constantFrom<Ask['guard']>('right', 'right', 'right', 'stale', 'any'),
    values: anyValues,
  })

  it('each get, and leave in the book, what they would have alone', async () => {
    const outcomes = async (asks: Ask[], isTogether: boolean) => {
      await own.database.sql(`delete from account; delete from ledgerman.entry; ${FILL}`)
      const outcomeOf = (ask: Ask) =>
        change(ask).then(
          ({ record, guard, receipt: { actor, note, steps } }) => ({
            record,
            guard,
            actor,
            note,
            steps: steps.map(({ durationMs: _, ...step }) => step),
          }),
          (error: unknown) => (isProblem(error) ? [error.code, error.detail] : error),
        )
      const told: unknown[] = []
      if (isTogether) told.push(...(await Promise.all(asks.map(outcomeOf))))
      else for (const ask of asks) told.push(await outcomeOf(ask))
      const left = await own.database.sql(`select (select jsonb_agg(a order by no) from account a) as rows,
        (select jsonb_agg(to_jsonb(h) - 'at' - 'id' order by h.key, h.actor, h.problem) from ledgerman.history h) as book,
        (select jsonb_agg(jsonb_build_array(key, statement, binds, record, matched, changed) order by key, actor, problem) from ledgerman.entry) as entries`)
      return { told, left }
    }
    await fc.assert(
      fc.asyncProperty(
        fc.uniqueArray(anyAsk, { selector: ({ no }) => no, minLength: 2, maxLength: 9 }),
        async (asks) => {
          expect(await outcomes(asks, true)).toEqual(await outcomes(asks, false))
        },
      ),
      { numRuns: 25 },
    )
  })

  it('share statements, and one of them at a time changes the same record', async () => {
    await own.database.sql(`delete from account; delete from ledgerman.entry; ${FILL}`)
    const asks = Array.from({ length: 40 }, (_, at): Ask => ({
      no: 1 + (at % 8),
      actor: `caller ${at}`,
      guard: 'any',
      values: { name: `n ${at}`, open: false },
    }))
    // Callers of the same record go one after the other; how many share depends on how long each takes.
    await Promise.all(asks.map((ask) => change(ask)))
    expect(
      await own.database.sql(`select v, count(*)::int from account group by v - no, v having v - no <> 5`),
    ).toEqual([])
    const keys = Array.from({ length: 40 }, (_, at) => parseKeyParts(account, [`r,${at % 2}`, String(at)]))
    const loading = async () => Promise.all(keys.map((key) => codeOf(loadRecord(own.target, account, key))))
    let found: string[] = []
    const asked = await groupsOf(async () => (found = await loading()))
    expect(asked.callers).toBe(40)
    expect(asked.groups).toBeLessThan(10)
    expect(found).toEqual(keys.map((_, at) => (at >= 1 && at <= 8 ? 'done' : 'no-such-record')))
  })

  it.each<[string, GuardedBy]>([
    [
      'a version and a rule',
      { guard: { by: 'version', property: 'v' }, rules: [{ that: 'no < 99', otherwise: 'No.' }] },
    ],
    ['the row', { guard: { by: 'rowStamp' } }],
    ['values', { guard: { by: 'values', of: ['amount', 'data'] } }],
    ['nothing', { guard: { by: 'none' } }],
    ['the row, of which a value is sensitive', { guard: { by: 'rowStamp' }, sensitive: 'name' }],
  ])('share statements where a record is guarded by %s', async (_, { sensitive, ...difference }: GuardedBy) => {
    await own.database.sql(`delete from account; delete from ledgerman.entry; ${FILL}`)
    const derived = await own.mapped('public.account', 'select 1', difference as never)
    if (sensitive) (derived.byName.get(sensitive) as { sensitive: boolean }).sensitive = true
    const records = [1, 2, 3, 4, 5, 6].map((no) => parseKeyParts(derived, [`r,${no % 2}`, String(no)]))
    const loaded = await Promise.all(records.map((key) => loadRecord(own.target, derived, key)))
    const asked = await groupsOf(() =>
      Promise.all(
        records.map(async (key, at) => {
          const { guard, record } = loaded[at] as (typeof loaded)[number]
          const given = {
            guard: guard === null ? ('any' as const) : { guards: [guard] },
            loaded: { open: record['open'] ?? null },
          }
          const request = { key, values: { name: `m${at}` }, mode: 'commit' as const, actor: 'ada', ...given }
          const { receipt } = await changeRecord(own.target, derived, request)
          expect(receipt.steps[0]).toMatchObject({ matched: 1, changed: 1 })
        }),
      ),
    )
    expect(asked.callers).toBe(6)
    expect(asked.groups).toBeLessThanOrEqual(2)
    expect(await own.database.sql(`select count(distinct name)::int as names from account where name ~ '^m'`)).toEqual([
      { names: 6 },
    ])
    expect(JSON.stringify(await own.database.sql('select * from ledgerman.entry')).includes('m3')).toBe(!sensitive)
  })

  it('do not wait for a lock that one of them has to wait for, who learns of it', async () => {
    await own.database.sql(`delete from account; ${FILL}`)
    const other = await own.database.session()
    await other.query(`begin; select * from account where no = 3 for update`)
    const waits: LockHolder[][] = []
    const asks = [1, 2, 3, 4, 5, 6].map((no): Ask => ({ no, actor: 'ada', guard: 'right', values: { amount: '1' } }))
    const ended: number[] = []
    const all = asks.map(async (ask) => {
      await change(ask, (holders) => void waits.push(holders))
      ended.push(ask.no)
    })
    await Promise.all(all.filter((_, at) => at !== 2))
    expect(ended).toHaveLength(5)
    while (waits.length === 0) await new Promise((resolve) => setTimeout(resolve, 10))
    expect(waits[0]?.[0]).toMatchObject({ application: 'somebody else' })
    await other.query('rollback')
    await other.end()
    await Promise.all(all)
    expect(ended.at(-1)).toBe(3)
  })

  it('find a few records by their index, under one plan for groups of any size, where the planner would read all of a small table', async () => {
    const lens = await own.mapped(
      'public.lens',
      `create table lens (id integer primary key, note text); insert into lens select n, 'lens number ' || n from generate_series(1, 2000) n; analyze lens`,
      { guard: { by: 'none' } },
    )
    const note = lens.properties.find(({ name }) => name === 'note') as Property
    const shape = { set: [note], merges: new Map(), expected: [], guarded: false }
    const statements = [
      buildSharedLoad(lens, lens.key),
      buildKeyedWrite(lens, { kind: 'change', ...shape }, true).shared,
    ]
    const entry = (name: string) => ({ ':id': randomUUID(), ':statement': '1', ':binds': '{}' })[name]
    for (const statement of statements) {
      const session = await own.database.session()
      // What the entry says fits its slots; nothing is written, as the value is the same.
      const value = ({ name, source }: Slot, no: number) =>
        source.from === 'key' ? `${no}` : (entry(name) ?? `lens number ${no}`)
      const execute = (most: number) => {
        const numbers = Array.from({ length: most }, (_, at) => at + 1)
        const arrays = statement?.slots.map((slot) => `array['${numbers.map((no) => value(slot, no)).join(`', '`)}']`)
        return `execute shared(${arrays?.join(', ')})`
      }
      await session.query(`prepare shared as ${statement?.text}`)
      for (let times = 0; times < 12; times++) await session.query(`begin; ${execute(1 + (times % 3))}; rollback`)
      const { rows: plan } = await session.query<{ 'QUERY PLAN': string }>(`explain ${execute(2)}`)
      const { rows: kept } = await session.query(
        `select custom_plans::int from pg_prepared_statements where name = 'shared'`,
      )
      await session.end()
      const text = plan.map((line) => line['QUERY PLAN']).join('\n')
      expect(text).toMatch(/Index Scan using lens_pkey on lens/)
      expect(text).not.toMatch(/Seq Scan on lens/)
      expect(kept).toEqual([{ custom_plans: 5 }])
    }
  })
})
