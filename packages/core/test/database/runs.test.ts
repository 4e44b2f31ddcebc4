import { createServer, connect, type Server, type Socket } from 'node:net'
import fc from 'fast-check'
import { isProblem, type Json, type LockHolder, type Receipt, type StepDefinition } from '@ledgerman/contract'
import { resolvePlan, runPlan, Target, type Mapping } from '@ledgerman/core'
import { meeting, MEETS } from '../../../../testing/meeting.js'
import { codeOf, openOwnTables, type OwnTables } from '../../../../testing/own-tables.js'

let own: OwnTables
const mappings = new Map<string, Mapping>()
const findMapping = (name: string) => Promise.resolve(mappings.get(name) as Mapping)
const FILL = `insert into account select 'A' || n, 100, null, 1 from generate_series(1, 8) n`
const ACCOUNT = `create table account (code text primary key, amount numeric(10,2) not null check (amount >= 0), note text, v integer not null default 1);
  create table move (id integer generated always as identity primary key, giver text not null references account, amount numeric not null)`

type Options = Partial<Parameters<typeof runPlan>[2]> & {
  types?: Record<string, string>
  limits?: object
  target?: Target
}
/** Steps with a name are run as one statement where they can be; those without one are run step by step. */
let name: string | null = null
const run = async (
  steps: StepDefinition[],
  { types = {}, limits = {}, target = own.target, ...options }: Options = {},
) => {
  const params = options.params ?? {}
  const declared = Object.fromEntries(
    Object.keys(params).map((name) => [name, { type: types[name] ?? 'text', nullable: true }]),
  )
  const plan = await resolvePlan(
    target,
    { steps, params: declared, ...limits },
    name,
    name === null ? null : 1,
    findMapping,
  )
  return runPlan(target, plan, { mode: 'commit', actor: 'test', ...options, params })
}
const problemOf = async (work: Promise<unknown>) => {
  const error: unknown = await work.then(
    () => null,
    (reason: unknown) => reason,
  )
  if (isProblem(error)) return error
  throw new Error(`expected a problem, got ${String(error)}`)
}
const everything = () =>
  own.database
    .sql(`select (select jsonb_agg(a order by code) from account a) as accounts, (select jsonb_agg(m order by id) from move m) as moves,
    (select count(*)::int from ledgerman.image) as images, (select count(*)::int from ledgerman.entry where outcome = 'committed') as entries`)
const take = (code: string, amount: number): StepDefinition => ({
  change: 'account',
  key: { code: `'${code}'` },
  compute: { amount: `amount - ${amount}` },
})

beforeAll(async () => {
  own = await openOwnTables({}, {}, { isTrapped: true })
  mappings.set(
    'account',
    await own.mapped('public.account', ACCOUNT, { guard: { by: 'version', property: 'v' } as never }),
  )
  mappings.set('move', await own.mapped('public.move', 'select 1'))
})
afterAll(() => own.close())

describe.each([
  ['step by step', null],
  ['as one statement', 'named'],
])('%s', (_, given) => {
  beforeAll(async () => {
    name = given
    await own.database.sql(
      `truncate move, account restart identity; truncate ledgerman.entry, ledgerman.image; ${FILL}`,
    )
  })

  let release = () => Promise.resolve()
  /** Another session's transaction, open until it is released. */
  const hold = async (statement: string) => {
    const other = await own.database.session()
    await other.query('begin')
    await other.query(statement)
    release = async () => {
      release = () => Promise.resolve()
      await other.query('rollback').then(() => other.end())
    }
  }
  afterEach(() => release())

  describe('a run', () => {
    it('commits all its steps with their images, and rehearses without keeping anything', async () => {
      const before = await everything()
      const steps: StepDefinition[] = [
        { load: 'account', as: 'giver', key: { code: ':from' }, lock: 'change' },
        { require: 'giver.amount >= :amount', otherwise: '{giver.code} has only {giver.amount}, not {:amount}.' },
        { change: 'giver', compute: { amount: 'amount - :amount' }, as: 'taken' },
        {
          change: 'account',
          where: `code in ('A7', 'A8')`,
          expect: 2,
          compute: { amount: `amount + :amount / 2` },
          values: { note: 'shared' },
        },
        { add: 'move', when: ':amount > 5', compute: { giver: ':from', amount: ':amount' }, as: 'moved' },
        { require: 'changed(taken) = 1 and moved.amount = giver.amount - taken.amount' },
      ]
      const options = { params: { from: 'A1', amount: '10' } as Record<string, Json>, types: { amount: 'numeric' } }
      const rehearsed = await run(steps, { ...options, mode: 'rehearse' })
      expect(rehearsed.receipt).toMatchObject({
        outcome: 'rehearsed',
        steps: [{ matched: 1 }, {}, { changed: 1 }, { changed: 2 }, { changed: 1 }, {}],
      })
      expect(await everything()).toEqual(before)
      const { receipt } = await run(steps, { ...options, rehearsed: rehearsed.evidence })
      expect(receipt).toMatchObject({ outcome: 'committed', attempts: 1, reversible: 'yes' })
      expect(receipt.steps[2]?.rows).toEqual([
        {
          key: { code: 'A1' },
          before: { amount: '100.00' },
          after: { amount: '90.00' },
          alsoChanged: { before: { v: 1 }, after: { v: 2 } },
          guard: 'v2',
        },
      ])
      expect(await own.database.sql(`select code, amount from account where code in ('A1', 'A7')`)).toEqual([
        { code: 'A1', amount: '90.00' },
        { code: 'A7', amount: '105.00' },
      ])
      expect((await own.lastEntry())?.['id']).toBe(receipt.id)
      expect(
        await own.database.sql(`select count(*)::int as n from ledgerman.history where id = $1`, [receipt.id]),
      ).toEqual([{ n: 4 }])
      const refused = await problemOf(run(steps, { ...options, params: { from: 'A1', amount: '500' } }))
      expect(refused).toMatchObject({
        code: 'rule-broken',
        detail: 'A1 has only 90.00, not 500.',
        facts: { step: 2, receipt: { outcome: 'refused' } },
      })
    })

    const anyStep: fc.Arbitrary<StepDefinition> = fc.oneof(
      fc
        .tuple(fc.integer({ min: 1, max: 9 }), fc.integer({ min: 1, max: 60 }))
        .map(([n, amount]) => take(`A${n}`, amount)),
      fc.integer({ min: 0, max: 8 }).map((n): StepDefinition => ({
        change: 'account',
        where: `code >= 'A${n}'`,
        expect: 'some',
        values: { note: `n${n}` },
      })),
      fc
        .integer({ min: 1, max: 8 })
        .map((n): StepDefinition => ({ add: 'move', values: { giver: `A${n}`, amount: n } })),
      fc.integer({ min: 1, max: 9 }).map((n): StepDefinition => ({ remove: 'account', key: { code: `'A${n}'` } })),
      fc.constant<StepDefinition>({ add: 'account', values: { code: 'A1', amount: 1 } }),
      fc.constant<StepDefinition>({ sql: `update account set note = 'raw' where amount > 50`, changes: true }),
      fc.constant<StepDefinition>({ require: `1 = 1` }),
    )

    it('leaves nothing behind when it is refused, whatever the step, and the next one works', async () => {
      const ending: fc.Arbitrary<StepDefinition> = fc.constantFrom<StepDefinition>(
        { require: '1 = 2' },
        take('A99', 1),
        take('A2', 100_000),
        { add: 'account', values: { code: 'A2', amount: 1 } },
        { sql: 'select 1 / 0' },
        { sql: `select pg_terminate_backend(pg_backend_pid())` },
        { change: 'account', where: 'true', expect: 'any', values: { note: 'all' } },
        { load: 'account', where: `code = 'none'`, expect: 'some' },
      )
      await fc.assert(
        fc.asyncProperty(fc.array(anyStep, { maxLength: 4 }), ending, async (steps, last) => {
          // What an earlier step removed may well be added again.
          const removed = steps.some((step) => 'remove' in step && step.key?.['code'] === `'A2'`)
          fc.pre(!(removed && 'add' in last))
          const before = await everything()
          const code = await codeOf(run([...steps, last]))
          expect([code, await everything()]).toEqual([expect.not.stringMatching(/^done$/), before])
          expect(await codeOf(run([{ require: '1 = 1' }], { mode: 'rehearse' }))).toBe('done')
        }),
        { numRuns: 30 },
      )
    })

    it('refuses to commit what it rehearsed when a row of it was changed, added or removed since', async () => {
      const steps: StepDefinition[] = [{ change: 'account', where: `code < 'A4'`, values: { note: 'swept' } }]
      const { evidence } = await run(steps, { mode: 'rehearse' })
      expect((await problemOf(run(steps))).facts).toMatchObject({ step: 1 })
      await own.database.sql(`update account set note = 'theirs' where code = 'A2'`)
      expect(await problemOf(run(steps, { rehearsed: evidence }))).toMatchObject({
        code: 'rehearsal-stale',
        facts: { differs: [{ step: 1, key: 'A2', what: 'was changed since' }] },
      })
    })

    it('says which records do not fit a count, and whose turn it was where a guard no longer holds', async () => {
      expect(
        await problemOf(run([{ change: 'account', where: `code > 'A5'`, expect: 'one', values: { note: 'x' } }])),
      ).toMatchObject({
        code: 'record-ambiguous',
        facts: { expected: 'one', matched: 3, sampleKeys: [{ code: 'A6' }, { code: 'A7' }, { code: 'A8' }] },
      })
      expect(await problemOf(run([take('A77', 1)]))).toMatchObject({
        code: 'no-such-record',
        facts: { key: { code: 'A77' } },
      })
      const stale: StepDefinition = {
        change: 'account',
        key: { code: `'A3'` },
        values: { note: 'mine' },
        guard: 'v0',
        loaded: { note: null },
      }
      expect(await problemOf(run([stale]))).toMatchObject({
        code: 'record-changed',
        facts: { step: 1, yours: { note: 'mine' }, current: { code: 'A3' } },
      })
    })
  })

  describe('waiting', () => {
    it.each([
      ['a row', `select * from account where code = 'A5' for update`],
      ['the table', 'lock table account in exclusive mode'],
    ])('for %s ends with the lock wait, names the holder, and says so while it waits', async (_, statement) => {
      await hold(statement)
      const waits: LockHolder[][] = []
      const started = performance.now()
      // As long as the machine takes for the same time now: a busy one keeps both waiting.
      const asLong = own.database.sql('select pg_sleep(0.4)').then(() => performance.now() - started)
      const problem = await problemOf(
        run([take('A5', 1)], { limits: { lockWait: '400ms' }, onWait: (holders) => void waits.push(holders) }),
      )
      const took = performance.now() - started
      expect(took - (await asLong)).toBeLessThan(350)
      expect(problem).toMatchObject({
        code: 'lock-timeout',
        detail: expect.stringMatching(/held by pid \d+ \(somebody else, .*\), idle in transaction/) as string,
        facts: {
          step: 1,
          holder: { application: 'somebody else', state: 'idle in transaction', isRoot: true },
          lastStatement: statement,
        },
      })
      expect(waits).toHaveLength(1)
      expect(await codeOf(run([take('A5', 1)], { limits: { lockWait: 0 } }))).toBe('lock-timeout')
    })

    it('is not for a run that is refused already, though its next statement waits', async () => {
      const before = await everything()
      await hold(`update account set note = 'held' where code = 'A2'`)
      const problem = await problemOf(
        run([take('A1', 1), { require: '1 = 2', otherwise: 'No.' }, take('A2', 1)], { limits: { lockWait: '5s' } }),
      )
      expect(problem).toMatchObject({ code: 'rule-broken', detail: 'No.' })
      expect((problem.facts['receipt'] as Receipt).durationMs).toBeLessThan(2_500)
      await release()
      expect(await everything()).toEqual(before)
      expect((await run([take('A1', 1), take('A1', -1)])).receipt.outcome).toBe('committed')
    })

    it('is spared where locked rows are left out, and those are listed', async () => {
      await hold(`select * from account where code = 'A5' for update`)
      const steps: StepDefinition[] = [
        { change: 'account', where: `code in ('A4', 'A5')`, expect: 'some', values: { note: 'free ones' } },
      ]
      const { receipt } = await run(steps, { limits: { lockWait: 'skip' } })
      expect(receipt.steps[0]).toMatchObject({ matched: 1, changed: 1, leftOut: [{ code: 'A5' }] })
    })

    it('ends with the time limit, and with the caller', async () => {
      const sleep: StepDefinition[] = [{ sql: 'select pg_sleep(5)' }]
      const over = { code: 'time-limit', facts: { step: 1 } }
      expect(await problemOf(run(sleep, { limits: { timeLimit: '150ms' } }))).toMatchObject(over)
      await hold(`select * from account where code = 'A5' for update`)
      expect(await problemOf(run([take('A5', 1)], { limits: { lockWait: '5s', timeLimit: 300 } }))).toMatchObject(over)
      const gone = new AbortController()
      setTimeout(() => gone.abort(), 100)
      expect(await codeOf(run(sleep, { signal: gone.signal }))).toBe('cancelled')
      // Whoever left before the run began, in line or while a session was waited for, has nothing done.
      const committed = () => own.database.sql(`select count(*) from ledgerman.entry where outcome = 'committed'`)
      const before = await committed()
      expect(await codeOf(run([{ sql: 'select 1' }], { signal: AbortSignal.abort() }))).toBe('cancelled')
      expect(await committed()).toEqual(before)
    })

    it('crosswise is a deadlock, which one of the two survives by trying again', async () => {
      const crosswise = (options: object) => () =>
        Promise.allSettled([
          run([take('A1', 1), MEETS, take('A2', 1)], options),
          run([take('A2', 1), MEETS, take('A1', 1)], options),
        ])
      const both = await meeting(own.database, crosswise({ limits: { lockWait: '5s' } }))
      expect(both.map((each) => each.status === 'fulfilled' && each.value.receipt.attempts).sort()).toEqual([1, 2])
      const [one, other] = await meeting(own.database, crosswise({ limits: { lockWait: '5s', retry: 0 } }))
      const failed = [one, other].find((each) => each.status === 'rejected')
      expect(failed?.reason).toMatchObject({
        code: 'retries-exhausted',
        facts: { attempts: 1, parties: [{ waitsFor: expect.any(String) as string }, {}] },
      })
    })

    it('at serializable is counted where it had to be tried again', async () => {
      const steps: StepDefinition[] = [
        { load: 'account', as: 'all', where: `code < 'A3'`, expect: 'some' },
        MEETS,
        { change: 'account', key: { code: `'A1'` }, compute: { amount: 'amount + 1' } },
      ]
      const limits = { isolation: 'serializable', retry: 5 }
      const both = await meeting(own.database, () => Promise.all([run(steps, { limits }), run(steps, { limits })]))
      expect(Math.max(...both.map(({ receipt }) => receipt.attempts))).toBeGreaterThan(1)
    })
  })

  describe('exactly once', () => {
    it('gives the first receipt again for the same request, refuses another, and one that still runs', async () => {
      const request = { key: 'k1', digest: 'd1' }
      const first = await run([take('A6', 1)], { request })
      const before = await everything()
      const again = await run([take('A6', 1)], { request })
      expect(again.receipt).toMatchObject({
        id: first.receipt.id,
        replayed: true,
        steps: [{ changed: 1, rows: first.receipt.steps[0]?.rows.map(({ guard: _, ...row }) => row) }],
      })
      expect(await everything()).toEqual(before)
      const reused = { request: { key: 'k1', digest: 'other' } }
      expect(await codeOf(run([take('A6', 1)], reused))).toBe('idempotency-key-reused')
      // However busy the machine is, the first still runs: it waits for what is held.
      await hold(`select * from account where code = 'A6' for update`)
      const second = { request: { key: 'k2', digest: 'd' }, limits: { lockWait: '10s' } }
      let running: Promise<unknown> = Promise.resolve()
      await new Promise<void>((resolve) => (running = run([take('A6', 1)], { ...second, onWait: () => resolve() })))
      expect(await codeOf(run([take('A6', 1)], second))).toBe('idempotency-key-in-use')
      await release()
      await running
      expect(await codeOf(run([take('A99', 1)], { request: { key: 'k3', digest: 'd' } }))).toBe('no-such-record')
      expect(await codeOf(run([take('A6', 1)], { request: { key: 'k3', digest: 'd' } }))).toBe('done')
    })

    it.each(['before', 'after'] as const)(
      'finds out what became of a COMMIT whose connection is cut %s it reaches the server',
      async (when) => {
        const proxy = await cuttingProxy(
          own.database.url,
          when,
          given === null ? /(?<!On )\bcommit\b/i : /insert into ledgerman\.entry/,
        )
        const target = new Target({ name: 'own', url: proxy.url, connections: 3, digestKey: Buffer.from('k') })
        try {
          await run([{ require: '1 = 1' }], { target, mode: 'rehearse' })
          const before = await everything()
          proxy.arm()
          const outcome = await run([take('A8', 1)], { target }).then(
            ({ receipt }): Receipt | string => receipt,
            (error: unknown) => (isProblem(error) ? error.code : String(error)),
          )
          const after = await everything()
          if (when === 'before') expect([outcome, after]).toEqual(['target-unavailable', before])
          else {
            expect(outcome).toMatchObject({ outcome: 'committed', steps: [{ changed: 1 }] })
            expect(after[0]?.['entries']).toBe(Number(before[0]?.['entries']) + 1)
          }
        } finally {
          await target.close()
          proxy.close()
        }
      },
    )
  })
})

/** A proxy in front of PostgreSQL that cuts a connection where it sees what commits for the first time once it is armed. */
async function cuttingProxy(url: string, when: 'before' | 'after', commits: RegExp) {
  const { hostname, port } = new URL(url)
  let isArmed = false
  const server: Server = createServer((client: Socket) => {
    const upstream = connect(Number(port), hostname)
    const cut = () => {
      client.destroy()
      upstream.destroy()
    }
    client.on('data', (bytes) => {
      if (!isArmed || !commits.test(bytes.toString('latin1'))) return void upstream.write(bytes)
      isArmed = false
      if (when === 'before') return cut()
      upstream.removeAllListeners('data')
      upstream.on('data', cut)
      upstream.write(bytes)
    })
    upstream.on('data', (bytes) => client.write(bytes))
    for (const side of [client, upstream]) side.on('error', cut).on('close', cut)
  })
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve))
  const through = new URL(url)
  through.port = String((server.address() as { port: number }).port)
  return { url: through.toString(), arm: () => (isArmed = true), close: () => server.close() }
}
