import { setTimeout as delay } from 'node:timers/promises'
import { isProblem, type Receipt, type StepDefinition } from '@ledgerman/contract'
import {
  changeRecord,
  loadRecord,
  parseKeyParts,
  resolvePlan,
  runPlan,
  Target,
  type Mapping,
  type Plan,
} from '@ledgerman/core'
import { openOwnTables, type OwnTables } from '../../../../testing/own-tables.js'
import { openProxy, type Proxy } from '../../../../testing/proxy.js'

// Many callers at few rows, while sessions are cancelled and ended and the network is cut. Afterwards the book is played over the rows as
// they were first: it has to come to the rows as they are, and to what each caller was told.
const OPERATIONS = Number(process.env['LEDGERMAN_TEST_OPERATIONS'] ?? 5_000)
const CALLERS = 64
const ROWS = 24
const TROUBLE_EVERY_MS = 40

let own: OwnTables
let proxy: Proxy
let target: Target
let account: Mapping
let plans: Plan[]

beforeAll(async () => {
  own = await openOwnTables()
  account = await own.mapped(
    'public.account',
    `create table account (id integer primary key, amount integer not null, note text, v integer not null default 1);
     insert into account select n, 0, 'first', 1 from generate_series(1, ${ROWS}) n`,
    { guard: { by: 'version', property: 'v' } as never },
  )
  proxy = await openProxy(own.database.url)
  target = new Target({
    name: 'load',
    url: proxy.urlOf(own.database.url),
    connections: 12,
    digestKey: Buffer.from('k'),
    limits: { lockWaitMs: 1_000, timeLimitMs: 4_000 },
  })
  const params = { from: { type: 'integer' }, to: { type: 'integer' } } as const
  const moved: StepDefinition[] = [
    { change: 'account', key: { id: ':from' }, guard: 'any', compute: { amount: 'amount - 1' } },
    { change: 'account', key: { id: ':to' }, guard: 'any', compute: { amount: 'amount + 1' } },
  ]
  const noted: StepDefinition[] = [
    { change: 'account', where: 'id between :from and :to', expect: 'any', compute: { note: `note || '.'` } },
  ]
  const prepare = (steps: StepDefinition[], name: string | null) =>
    resolvePlan(target, { params, steps, retry: 3 } as never, name, name === null ? null : 1, () =>
      Promise.resolve(account),
    )
  plans = await Promise.all([prepare(moved, 'move'), prepare(moved, null), prepare(noted, 'note')])
})
afterAll(async () => {
  await target.close()
  await proxy.close()
  await own.close()
})

const any = (most: number) => Math.floor(Math.random() * most)
const chance = (part: number) => Math.random() < part

/** One operation of a caller; what it was told goes to `told`. */
async function operate(signal: AbortSignal | undefined): Promise<Receipt> {
  const id = 1 + any(ROWS)
  if (chance(0.5)) {
    const key = parseKeyParts(account, [String(id)])
    const loaded = chance(0.7) ? await loadRecord(target, account, key) : undefined
    return (
      await changeRecord(target, account, {
        mode: 'commit',
        actor: 'ada',
        key,
        guard: loaded?.guard ? { guards: [loaded.guard] } : 'any',
        values: { note: `n${any(1_000)}` },
      })
    ).receipt
  }
  const params = { from: id, to: 1 + (id % ROWS) }
  const plan = plans[any(plans.length)] as Plan
  return (await runPlan(target, plan, { mode: 'commit', actor: 'ada', params, ...(signal ? { signal } : {}) })).receipt
}

/** Cancels and ends what Ledgerman's sessions run, now and then, and cuts connections before or behind what they sent. */
function makeTrouble(): { stop(): Promise<void> } {
  let isOver = false
  proxy.rules = {
    onRequest: () => (chance(0.0015) ? 'cut' : chance(0.0015) ? 'cutAnswer' : 'pass'),
  }
  const hit = async () => {
    while (!isOver) {
      await delay(any(2 * TROUBLE_EVERY_MS))
      const what = chance(0.7) ? 'pg_cancel_backend' : 'pg_terminate_backend'
      await own.database.sql(
        `select ${what}(pid) from pg_stat_activity where datname = current_database() and application_name like 'ledgerman%' and state = 'active' order by random() limit 1`,
      )
    }
  }
  const hitting = hit()
  return {
    async stop() {
      isOver = true
      proxy.rules = {}
      await hitting
    },
  }
}

it(
  `${OPERATIONS} operations of ${CALLERS} callers are in the book as they are in the rows, and as they were told`,
  async () => {
    const told = new Map<string, string>()
    const others: unknown[] = []
    let left = OPERATIONS
    const trouble = makeTrouble()
    const callers = Array.from({ length: CALLERS }, async () => {
      while (left-- > 0) {
        const leaving = chance(0.02) ? AbortSignal.timeout(1 + any(30)) : undefined
        await operate(leaving).then(
          ({ id, outcome }) => told.set(id, outcome),
          (error: unknown) => {
            const receipt = isProblem(error) ? (error.facts['receipt'] as Receipt | undefined) : undefined
            if (!isProblem(error) || error.code === 'internal') others.push(error)
            else if (receipt && error.code !== 'outcome-unknown') told.set(receipt.id, error.code)
          },
        )
      }
    })
    await Promise.all(callers)
    await trouble.stop()
    // What a caller gave up may still be cancelled.
    await delay(500)

    expect(others).toEqual([])
    const committed = new Set(
      (await own.database.sql(`select id from ledgerman.entry where outcome = 'committed'`)).map(({ id }) => id),
    )
    const wronglyTold = [...told].filter(([id, outcome]) => (outcome === 'committed') !== committed.has(id))
    expect(wronglyTold).toEqual([])
    expect(committed.size).toBeGreaterThan(OPERATIONS / 10)
    expect(await play()).toEqual([])
    expect(await own.database.sql('select sum(amount)::int as sum from account')).toEqual([{ sum: 0 }])
  },
  120_000 + OPERATIONS * 30,
)

/** Plays the book over the first rows; gives whatever does not meet. */
async function play(): Promise<unknown[]> {
  type Image = Record<string, string | null>
  const rows = new Map<string, Image>(
    Array.from({ length: ROWS }, (_, at) => [String(at + 1), { amount: '0', note: 'first', v: '1' }]),
  )
  const events = (await own.database.sql(
    `select id, key->>'id' as row, before, after from ledgerman.history where outcome = 'committed' and after is not null
     order by (after->>'v')::integer`,
  )) as { id: string; row: string; before: Image; after: Image }[]
  expect(events.length).toBeGreaterThan(OPERATIONS / 10)
  const wrong: unknown[] = []
  for (const { id, row, before, after } of events) {
    const state = rows.get(row)
    for (const [column, value] of Object.entries(before))
      if (state?.[column] !== value) wrong.push({ id, row, column, found: state?.[column], before: value })
    Object.assign(state ?? {}, after)
  }
  for (const { id, ...row } of await own.database.sql(
    'select id::text, amount::text, note, v::text from account order by account.id',
  )) {
    const state = rows.get(String(id))
    if (JSON.stringify(state) !== JSON.stringify(row)) wrong.push({ id, row, state })
  }
  return wrong
}
