import fc from 'fast-check'
import pg from 'pg'
import { isProblem, type EntryInfo, type StepDefinition } from '@ledgerman/contract'
import { compileCode, type CompiledCode } from '../../../../testing/compiled-code.js'
import { makeDatabase, type TestDatabase } from '../../../../testing/databases.js'
import { startTestService, type RunningService } from '../../../../testing/running-service.js'

// Transactions of every mixture, through the service and through code that was written of them: what is told, stored and booked is the same.
const TRANSACTIONS = Number(process.env['LEDGERMAN_TEST_TRANSACTIONS'] ?? 8)
const MAKE = `create table account (code text primary key, owner text not null, amount numeric(10,2) not null check (amount >= 0), open boolean not null default true, v integer not null default 1);
  create table move (id integer primary key, giver text not null references account, amount numeric not null, note text);
  create table tariff (code text primary key, rate numeric not null, v integer not null default 1);
  grant all on account, move, tariff to ledgerman_worker`
const FILL = `delete from move; delete from account; delete from tariff; insert into tariff values ('low', 1), ('high', 2);
  insert into account select 'A' || n, 'o' || n % 2, 10 * n, n % 4 <> 0, n from generate_series(1, 6) n; insert into move values (2, 'A2', 5, 'x')`
const MAPPINGS = {
  account: `key: [code]
guard: { by: version, property: v }
properties: { code: { column: code }, owner: { column: owner }, amount: { column: amount }, open: { column: open }, v: { column: v } }
rules: [{ that: amount < 100, otherwise: Too much. }]`,
  move: `key: [id]
guard: { by: none }
properties: { id: { column: id }, giver: { column: giver }, amount: { column: amount }, note: { column: note } }`,
  tariff: `key: [code]
guard: { by: version, property: v }
properties: { code: { column: code }, rate: { column: rate }, v: { column: v } }`,
}

const loads: StepDefinition[] = [
  { load: 'account', as: 'both', where: 'code in (:from, :to)', expect: 'some', lock: 'change' },
  { load: 'account', as: 'both', where: 'code in (:from, :to)', expect: 2 },
  { load: 'account', as: 'giver', key: { code: ':from' }, lock: 'change' },
  { load: 'account', as: 'giver', key: { code: ':from' } },
  { load: 'tariff', as: 'rate', key: { code: `'high'` }, lock: 'share' },
  { load: 'account', as: 'rich', where: `amount > 30 and owner = 'o1'`, expect: '1..2' },
  {
    ...{ load: 'account', as: 'giver', where: 'amount > :n', lock: 'change', expect: 'one' },
    ...{ order: 'owner desc, amount', limit: 1 },
  },
  { load: 'account', as: 'top', where: 'open', order: 'amount desc', limit: 2, expect: 'any' },
  { load: 'account', as: 'few', where: 'code <> :to', limit: 101, expect: '2..' },
]
const naming: StepDefinition[] = [
  { require: 'giver.amount >= :n', otherwise: '{giver.code} has {giver.amount}.' },
  { change: 'giver', compute: { amount: 'amount - :n' } },
  { change: 'giver', as: 'closed', values: { open: false }, when: 'giver.open' },
  { change: 'account', key: { code: ':to' }, compute: { amount: 'amount + giver.amount' }, guard: 'any' },
  { remove: 'giver', when: ':n > 10' },
  {
    replace: 'giver',
    values: { owner: 'x', open: false },
    compute: { code: 'giver.code', amount: 'giver.amount + 1' },
  },
]
const writes: StepDefinition[] = [
  { change: 'account', as: 'given', key: { code: ':from' }, compute: { amount: 'amount - :n' } },
  { change: 'account', key: { code: ':to' }, compute: { amount: 'amount + :n', open: 'not open' }, guard: 'v2' },
  { change: 'account', key: { code: ':to' }, compute: { amount: 'amount + :n' }, guard: 'any' },
  {
    change: 'account',
    as: 'many',
    where: `owner = 'o1'`,
    expect: '1..9',
    values: { owner: 'o1' },
    compute: { amount: 'amount * :n' },
  },
  { change: 'account', where: 'amount >= 0', everyRow: true, expect: 'any', values: { open: true } },
  { change: 'account', when: ':n > 5', key: { code: ':to' }, values: { open: false } },
  { add: 'move', as: 'moved', when: ':n < 7', compute: { id: '1', giver: ':from', amount: ':n' } },
  {
    add: 'move',
    as: 'kept',
    values: { id: 2, note: "it's" },
    compute: { giver: ':from', amount: ':n' },
    onExisting: 'keep',
  },
  {
    add: 'move',
    values: { id: 2, note: null },
    compute: { giver: ':to', amount: ':n + 1' },
    onExisting: 'change',
  },
  { remove: 'tariff', key: { code: `'low'` }, guard: 'any' },
  { change: 'tariff', key: { code: `'high'` }, compute: { code: `'top'`, rate: 'rate + 1' }, guard: 'any' },
  { change: 'tariff', as: 'renamed', where: 'rate < 3', expect: 'any', compute: { code: `code || '+'` } },
  { remove: 'move', where: 'giver = :from', expect: '..1' },
  { require: ':n < 9', otherwise: 'Too many: {:n}.' },
  { require: `:from <> 'A3' or :n > 2` },
]
const counting: [string, StepDefinition][] = [
  ['given', { require: 'changed(given) = 1' }],
  ['kept', { require: 'kept.id = 2 and kept.amount >= 0 and changed(kept) = matched(kept)' }],
  ['many', { require: 'matched(many) > 2' }],
  ['many', { require: 'changed(many) = matched(many)' }],
]
const nameOf = (step: StepDefinition) => ('as' in step ? step.as : undefined)
const transaction = fc
  .record({
    loads: fc.uniqueArray(fc.constantFrom(...loads), { selector: nameOf, maxLength: 3 }),
    naming: fc.shuffledSubarray(naming, { maxLength: 2 }),
    writes: fc.shuffledSubarray(writes, { minLength: 1, maxLength: 4 }),
    counting: fc.constantFrom(null, ...counting),
    isolation: fc.constantFrom(null, null, 'repeatable read', 'serializable'),
    lockWait: fc.constantFrom(null, '1s', 'skip'),
  })
  .map((drawn) => {
    const isThere = (name: string) => [...drawn.loads, ...drawn.writes].some((step) => nameOf(step) === name)
    const steps = [
      ...drawn.loads,
      ...(isThere('giver') ? drawn.naming : []),
      ...drawn.writes,
      ...(drawn.counting && isThere(drawn.counting[0]) ? [drawn.counting[1]] : []),
      { require: ':from is not null and :to is not null and :n is not null' },
    ]
    const { isolation, lockWait } = drawn
    const params = { from: { type: 'text' }, to: { type: 'text' }, n: { type: 'numeric', rule: ':n >= 0' } }
    return { params, ...(isolation ? { isolation } : {}), ...(lockWait ? { lockWait } : {}), steps }
  })
const CALLS = [
  ['A1', 'A2', '3'],
  ['A2', 'A1', '0'],
  ['A3', 'A6', '2.5'],
  ['A4', 'A4', '6'],
  ['A9', 'A2', '1'],
  ['A5', 'A9', '10'],
  ['A6', 'A1', '12'],
  ['A1', 'A1', '-1'],
].map(([from, to, n]) => ({ from, to, n }))

let service: RunningService
let copy: TestDatabase
/** One whose connections begin as any do, and one whose begin with the limits. */
let pools: pg.Pool[] = []
let code: CompiledCode
const [THEIRS, OURS] = ['observatory', 'copy']
const target = (name = THEIRS) => service.client.target(name)
beforeAll(async () => {
  copy = await makeDatabase()
  service = await startTestService({ extraTargets: { [OURS]: copy.url } })
  await Promise.all([service.observatory.sql(MAKE), copy.sql(MAKE)])
  await target(OURS).prepareBook()
  for (const [mapping, rest] of Object.entries(MAPPINGS))
    for (const each of [THEIRS, OURS])
      await target(each).publishMapping(mapping, `mapping: ${mapping}\ntable: public.${mapping}\n${rest}`)
  const drawn = fc.sample(transaction, TRANSACTIONS)
  const transactions = drawn.map((each, at) => ({ transaction: `t${at}`, ...each }))
  await target().publish(transactions.map((each) => ({ source: JSON.stringify(each) })))
  const names = transactions.map((each) => each.transaction)
  code = await compileCode(await target().code({ mappings: Object.keys(MAPPINGS), transactions: names, book: true }))
  code.module.configureBook({ actor: 'admin', digestKey: Buffer.from('none') })
  const { POOL_SETTINGS } = code.module as unknown as { POOL_SETTINGS: pg.PoolConfig }
  pools = [{}, POOL_SETTINGS].map((options) => new pg.Pool({ connectionString: copy.url, max: 2, ...options }))
})
afterAll(async () => {
  code?.remove()
  await Promise.all(pools.map((pool) => pool.end()))
  await service.stop()
  await copy.drop()
})

/** What a call gave, or the code of what it threw. */
async function outcomeOf<T>(call: Promise<T>, counts: (given: T) => [number, number]): Promise<unknown> {
  try {
    return counts(await call)
  } catch (error) {
    if (isProblem(error) || error instanceof code.module.DataError) return (error as { code: string }).code
    throw error
  }
}

const stored = (database: TestDatabase) =>
  database.sql(
    `select 'a' as t, to_jsonb(a) as r from account a union all select 'm', to_jsonb(m) from move m union all select 't', to_jsonb(t) from tariff t order by 1, 2`,
  )

/** The newest entry of a book, without what differs from one run to the next. */
async function lastEntry(name: string) {
  const { entries } = await target(name).entries({ limit: 1 })
  const { receipt, ...entry }: EntryInfo = await target(name).entry(entries[0]?.id ?? '')
  const steps = receipt.steps.map(({ no, kind, mapping, as, skipped, expected, matched, changed, rows }) => ({
    ...{ no, kind, mapping, as, skipped, expected, matched, changed },
    // The rows of a step stand in the order in which the database came upon them.
    rows: [...rows].sort((one, other) => (JSON.stringify(one.key) < JSON.stringify(other.key) ? -1 : 1)),
  }))
  // Of the step that refuses, written code has no counts.
  if (receipt.outcome === 'refused') Object.assign(steps.at(-1) ?? {}, { matched: null, changed: null })
  const { outcome, mode, isolation, reversible, transaction: name_, revision } = receipt
  return { problem: entry.problem, outcome, mode, isolation, reversible, transaction: name_, revision, steps }
}

it('does, refuses and books what the service does', async () => {
  for (let at = 0; at < TRANSACTIONS; at++)
    for (const params of CALLS) {
      await Promise.all([service.observatory.sql(FILL), copy.sql(FILL)])
      const theirs = await outcomeOf(target().run({ mode: 'commit', transaction: `t${at}`, params }), ({ steps }) => {
        const writing = steps.filter(({ kind }) => kind !== 'load' && kind !== 'require')
        const sum = (of: 'matched' | 'changed') => writing.reduce((total, step) => total + (step[of] ?? 0), 0)
        return [sum('matched'), sum('changed')]
      })
      const ours = await outcomeOf(
        code.module[`t${at}`](pools[at % 2], params) as Promise<{ matched: number; changed: number }>,
        ({ matched, changed }) => [matched, changed],
      )
      const call = [at, params]
      expect([call, ours]).toEqual([call, theirs])
      expect([call, await stored(copy)]).toEqual([call, await stored(service.observatory)])
      expect([call, await lastEntry(OURS)]).toEqual([call, await lastEntry(THEIRS)])
    }
})
