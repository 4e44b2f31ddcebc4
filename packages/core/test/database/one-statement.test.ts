import fc from 'fast-check'
import { isProblem, type Receipt, type StepDefinition } from '@ledgerman/contract'
import { resolvePlan, runPlan, Target, type Mapping, type Plan } from '@ledgerman/core'
import { buildOneStatement } from '../../src/plan/one-statement/build-one-statement.js'
import type { TestDatabase } from '../../../../testing/databases.js'
import { openOwnTables, type OwnTables } from '../../../../testing/own-tables.js'

let own: OwnTables
let sharers = 0
const activity = { grouped: (callers: number) => void (sharers += callers > 1 ? callers : 0) }
let watcher: Awaited<ReturnType<TestDatabase['session']>>
const mappings = new Map<string, Mapping>()
const MAKE = `create table account (code text primary key, owner text not null, amount numeric(10,2) not null check (amount >= 0), open boolean not null default true, v integer not null default 1);
  create table move (id integer primary key, giver text not null references account, amount numeric not null);
  create table tariff (code text primary key, rate numeric not null)`
const FILL = `delete from move; delete from account; delete from tariff; delete from ledgerman.entry; delete from ledgerman.image;
  insert into account select 'A' || n, 'o' || n % 2, 10 * n, n % 4 <> 0, n from generate_series(1, 6) n;
  insert into tariff values ('low', 1), ('high', 2)`

beforeAll(async () => {
  own = await openOwnTables({}, { activity }, { isTrapped: true })
  watcher = await own.database.session()
  const account = {
    guard: { by: 'version', property: 'v' },
    rules: [{ that: `amount < 1000`, otherwise: 'Too much.' }],
  } as never
  mappings.set('account', await own.mapped('public.account', MAKE, account))
  mappings.set('move', await own.mapped('public.move', 'select 1', { guard: { by: 'none' } } as never))
  mappings.set('tariff', await own.mapped('public.tariff', 'select 1', { guard: { by: 'none' } } as never))
})
afterAll(async () => {
  await watcher.end()
  await own.close()
})

const prepare = (steps: StepDefinition[], more: object = {}, target: Target = own.target): Promise<Plan> =>
  resolvePlan(
    target,
    {
      params: { from: { type: 'text' }, to: { type: 'text' }, n: { type: 'numeric' } },
      steps: [...steps, USES_ALL],
      ...more,
    },
    'test',
    1,
    (name) => Promise.resolve(mappings.get(name) as Mapping),
  )
const USES_ALL: StepDefinition = { require: `:from is not null and :to is not null and :n is not null` }

const loads: StepDefinition[] = [
  { load: 'account', as: 'both', where: 'code in (:from, :to)', expect: 'some', lock: 'change' },
  { load: 'account', as: 'giver', key: { code: ':from' }, lock: 'change' },
  { load: 'account', as: 'giver', key: { code: ':from' } },
  { load: 'tariff', as: 'rate', key: { code: `'high'` } },
]
const writes: StepDefinition[] = [
  { change: 'account', as: 'given', key: { code: ':from' }, compute: { amount: 'amount - :n' } },
  { change: 'account', key: { code: ':to' }, compute: { amount: 'amount + :n', open: 'not open' }, guard: 'v2' },
  { change: 'account', key: { code: ':to' }, compute: { amount: 'amount + :n' } },
  {
    change: 'account',
    as: 'many',
    where: `owner = 'o1'`,
    expect: '1..9',
    values: { owner: 'o1' },
    compute: { amount: 'amount * :n' },
  },
  { change: 'account', when: ':n > 5', key: { code: ':to' }, values: { open: false } },
  { add: 'move', as: 'moved', when: ':n < 7', compute: { id: '1', giver: ':from', amount: ':n' } },
  { remove: 'tariff', key: { code: `'low'` } },
  { require: ':n < 9', otherwise: 'Too many: {:n}.' },
]
const naming: StepDefinition[] = [
  { require: 'giver.amount >= :n', otherwise: '{giver.code} has {giver.amount}.' },
  { change: 'giver', compute: { amount: 'amount - :n' } },
  { change: 'account', key: { code: ':to' }, compute: { amount: 'amount + giver.amount' } },
]

/** The SQLSTATEs that runs as one statement ended with; they are run step by step then, so that nobody else hears of them. */
const ends: string[] = []
function listen(): void {
  own.target.activity.sent = (lane, state, because) => {
    if (lane === 'one statement') ends.push(state === 'passed' ? (because as { code: string }).code : state)
  }
}

/** A receipt or a problem without what differs from one run to the next. */
function told(receipt: Receipt | undefined): unknown {
  return receipt?.steps.map(({ durationMs: _, ...step }) => step)
}

type Params = Record<'from' | 'to' | 'n', string>

/** What a run tells. */
function runOf(plan: Plan, params: Params, isStepByStep = false): Promise<unknown> {
  const hooks = isStepByStep ? { hooks: {} } : {}
  return runPlan(own.target, plan, { mode: 'commit', actor: params.from, params, ...hooks }).then(
    ({ receipt }) => ({ steps: told(receipt), reversible: receipt.reversible, attempts: receipt.attempts }),
    (error: unknown) => {
      if (!isProblem(error)) throw error
      const { code, detail, facts } = error
      const steps = told(facts['receipt'] as Receipt)
      return { code, detail: detail.replace(/'[\d-]+T.*?'/, ''), step: facts['step'], steps }
    },
  )
}

/** What runs leave in the tables and in the book. */
async function left(): Promise<unknown> {
  const { rows } = await watcher.query(
    `select (select jsonb_agg(a order by code) from account a) as accounts, (select jsonb_agg(m) from move m) as moves,
    (select jsonb_agg(t order by code) from tariff t) as tariffs,
    (select jsonb_agg(jsonb_build_array(e.outcome, e.matched, e.changed, e.run ->> 'reversible') order by actor) from ledgerman.entry e) as entries,
    (select jsonb_agg(to_jsonb(s) - 'entry' - 'duration_ms' order by actor, no) from ledgerman.step s join ledgerman.entry e on e.id = s.entry) as steps,
    (select jsonb_agg(to_jsonb(i) - 'entry' order by actor, step, i.key) from ledgerman.image i join ledgerman.entry e on e.id = i.entry) as images`,
  )
  return rows
}

const MOVING: StepDefinition[] = [
  { load: 'account', as: 'both', where: 'code in (:from, :to)', expect: 2, lock: 'change' },
  { load: 'account', as: 'giver', key: { code: ':from' } },
  { require: 'giver.amount >= :n', otherwise: '{giver.code} has too few.' },
  { change: 'account', key: { code: ':from' }, compute: { amount: 'amount - :n' } },
  { change: 'account', key: { code: ':to' }, compute: { amount: 'amount + :n' } },
]

async function outcomeOf(plan: Plan, params: Params, isStepByStep: boolean): Promise<unknown> {
  await watcher.query(FILL)
  return [await runOf(plan, params, isStepByStep), await left()]
}

/** How many callers the database is asked for together with others while some work is done. */
async function sharersOf(work: () => Promise<unknown>): Promise<number> {
  sharers = 0
  await work()
  return sharers
}

describe('a run that is one statement', () => {
  it('finds, writes, books, tells and refuses what it does step by step', async () => {
    const anySteps = fc
      .record({
        loads: fc.subarray(loads, { maxLength: 2 }),
        writes: fc.shuffledSubarray(writes, { minLength: 1, maxLength: 3 }),
        naming: fc.subarray(naming, { maxLength: 2 }),
        isolation: fc.constantFrom(undefined, undefined, 'repeatable read'),
        lockWait: fc.constantFrom(undefined, '1s'),
      })
      .map((drawn) => {
        const named = new Set(drawn.loads.flatMap((step) => ('as' in step ? [step.as] : [])))
        const distinct = drawn.loads.filter(
          (step, at) => drawn.loads.findIndex((other) => 'as' in other && 'as' in step && other.as === step.as) === at,
        )
        const steps = [...distinct, ...(named.has('giver') ? drawn.naming : []), ...drawn.writes]
        const { isolation, lockWait } = drawn
        return { steps, limits: { ...(isolation ? { isolation } : {}), ...(lockWait ? { lockWait } : {}) } }
      })
    const code = fc.constantFrom('A1', 'A2', 'A3', 'A4', 'A9')
    let together = 0
    listen()
    await fc.assert(
      fc.asyncProperty(
        anySteps,
        code,
        code,
        fc.integer({ min: 0, max: 12 }),
        async ({ steps, limits }, from, to, n) => {
          const plan = await prepare(steps, limits)
          if (buildOneStatement(plan)) together++
          const params = { from, to, n: String(n) }
          expect(await outcomeOf(plan, params, false)).toEqual(await outcomeOf(plan, params, true))
        },
      ),
      { numRuns: 75 },
    )
    expect(together).toBeGreaterThan(25)
    // A mistake in the statement would only make it slower.
    expect(ends.filter((code) => code.startsWith('42'))).toEqual([])
    expect(ends.filter((code) => code === 'committed').length).toBeGreaterThan(7)
  })

  it('does for callers who share one what it does for each alone', async () => {
    const locking = fc.constantFrom<StepDefinition[][]>(
      [{ load: 'account', as: 'both', where: 'code in (:from, :to)', expect: 2, lock: 'change' }],
      [
        { load: 'account', as: 'first', key: { code: ':from' }, lock: 'change' },
        { load: 'account', as: 'second', key: { code: ':to' }, lock: 'change' },
      ],
    )
    const writing = fc.subarray<StepDefinition>(
      [
        { change: 'account', as: 'given', key: { code: ':from' }, compute: { amount: 'amount - :n', owner: ':to' } },
        {
          change: 'account',
          key: { code: ':to' },
          compute: { amount: 'amount + giver.amount * 20' },
          loaded: { owner: 'o0' },
        },
        { change: 'account', key: { code: ':to' }, compute: { amount: 'amount + :n' }, guard: 'v4' },
        { change: 'account', key: { code: ':to' }, values: { open: true } },
        { change: 'giver', compute: { amount: 'amount - :n' } },
      ],
      { minLength: 1, maxLength: 2 },
    )
    const anyN = fc.integer({ min: 0, max: 25 }).map(String)
    let shared = 0
    await fc.assert(
      fc.asyncProperty(locking, writing, fc.array(anyN, { minLength: 4, maxLength: 4 }), async (locks, writes, ns) => {
        const giver: StepDefinition[] = [
          { load: 'account', as: 'giver', key: { code: ':from' } },
          { require: 'giver.amount >= :n', otherwise: '{giver.code} has {giver.amount}.' },
        ]
        const plan = await prepare([...locks, ...giver, ...writes])
        const asked: Params[] = ['A1 A2', 'A3 A4', 'A5 A6', 'A8 A9'].map((pair, at) => {
          const [from = '', to = ''] = pair.split(' ')
          return { from, to, n: ns[at] ?? '' }
        })
        await watcher.query(FILL)
        const alone: unknown[] = []
        for (const params of asked) alone.push(await runOf(plan, params, true))
        const leftAlone = await left()
        await watcher.query(FILL)
        let together: unknown[] = []
        shared += await sharersOf(
          async () => (together = await Promise.all(asked.map((params) => runOf(plan, params)))),
        )
        expect([together, await left()]).toEqual([alone, leftAlone])
      }),
      { numRuns: 30 },
    )
    expect(shared).toBeGreaterThan(20)
  })

  it.each([
    { services: 1, rows: 4, least: 5, most: 20 },
    { services: 1, rows: 4, least: 0.01, most: 0.01 },
    { services: 2, rows: 4, least: 0.01, most: 0.01 },
    { services: 1, rows: 400, least: 5, most: 20 },
  ])(
    'is right for many who move $least to $most between $rows rows through $services, and each entry follows on the one before',
    async ({ services, rows, least, most }) => {
      await watcher.query(
        `${FILL}; insert into account select 'A' || n, 'o', 20, true, n from generate_series(7, ${rows}) n`,
      )
      const [before] = await own.database.sql('select sum(amount)::text as sum from account')
      // On a busy machine a turn may be long in coming.
      const options = { name: 'own', url: own.database.url, connections: 10, limits: { lockWaitMs: 20_000 }, activity }
      const targets = Array.from({ length: services }, () => new Target({ ...options, digestKey: Buffer.from('k') }))
      const plans = await Promise.all(targets.map((target) => prepare(MOVING, {}, target)))
      expect(buildOneStatement(plans[0] as Plan)).toBeDefined()
      const outcomes = new Set<unknown>()
      const shared = await sharersOf(() =>
        Promise.all(
          Array.from({ length: 200 }, async (_, turn) => {
            const [from, to] = [1 + ((turn * 13) % rows), 1 + ((turn * 13 + 1 + (turn % 3)) % rows)]
            const params = { from: `A${from}`, to: `A${to}`, n: String(least + (turn % (1 + most - least))) }
            const [target, plan] = [targets[turn % services] as Target, plans[turn % services] as Plan]
            const outcome = await runPlan(target, plan, { mode: 'commit', actor: 'test', params }).then(
              ({ receipt }) =>
                receipt.steps.every(({ no, changed }) => changed === (no > 3 && no < 6 ? 1 : 0)) ? 'moved' : receipt,
              (error: unknown) => (isProblem(error, 'rule-broken') ? 'refused' : error),
            )
            outcomes.add(outcome)
          }),
        ),
      )
      if (rows > 4) expect(shared).toBeGreaterThan(50)
      expect(outcomes).toEqual(new Set(rows > 4 || most < 1 ? ['moved'] : ['moved', 'refused']))
      // Where runs meet at few rows and nobody is refused, some are committed together with others; how many depends on the machine.
      const [met] = await own.database.sql(
        `select count(*)::int as runs, count(distinct xmin::text)::int as commits from ledgerman.entry where outcome = 'committed'`,
      )
      if (most < 1) expect(met?.['commits']).toBeLessThan(Number(met?.['runs']))
      expect(await own.database.sql('select sum(amount)::text as sum, min(amount) >= 0 as sound from account')).toEqual(
        [{ sum: before?.['sum'], sound: true }],
      )
      // Versions order the images of a record: each begins where the last one ended.
      const broken = await own.database.sql(`select * from (
        select key, before, lag(after) over (partition by key order by (after ->> 'v')::integer) as last from ledgerman.history) chain
      where last is not null and last <> before`)
      expect(broken).toEqual([])
      await Promise.all(targets.map((target) => target.close()))
    },
  )

  it('takes turns with others at the same rows, and waits for no lock and pays for no refusal but its own', async () => {
    await watcher.query(FILL)
    const plan = await prepare(MOVING)
    const move = (from: string, to: string, n: string) =>
      runPlan(own.target, plan, { mode: 'commit', actor: 'test', params: { from, to, n } })
    const many = (count: number) => Promise.all(Array.from({ length: count }, () => move('A1', 'A2', '0.01')))
    await many(40)
    const other = await own.database.session()
    await other.query(`begin; select from account where code = 'A6' for update`)
    const refused = [move('A1', 'A3', '10'), move('A6', 'A5', '0.01')].map((run) =>
      run.then(
        () => 'moved',
        (error: unknown) => (isProblem(error) ? [error.code, error.detail] : error),
      ),
    )
    const started = performance.now()
    const others = await Promise.all([many(10), many(10)])
    expect(performance.now() - started).toBeLessThan(own.target.limits.lockWaitMs)
    expect(new Set(others.flat().map(({ receipt }) => receipt.outcome))).toEqual(new Set(['committed']))
    expect(await Promise.all(refused)).toEqual([
      ['rule-broken', expect.stringContaining('A1 has too few.')],
      ['lock-timeout', expect.stringContaining('somebody else')],
    ])
    await other.query('rollback')
    await other.end()
    expect(
      await own.database.sql(`select v, amount::text from account where code in ('A1', 'A2', 'A6') order by code`),
    ).toEqual([
      { v: 61, amount: '9.40' },
      { v: 62, amount: '20.60' },
      { v: 6, amount: '60.00' },
    ])
    expect(
      await own.database.sql(`select outcome, count(*)::int from ledgerman.entry group by outcome order by outcome`),
    ).toEqual([
      { outcome: 'committed', count: 60 },
      { outcome: 'refused', count: 2 },
    ])
  })
})
