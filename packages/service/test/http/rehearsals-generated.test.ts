import fc from 'fast-check'
import { isProblem, type Receipt, type RunInput, type StepDefinition } from '@ledgerman/contract'
import { holdsFor } from '../../../../testing/generated.js'
import { startTestService, type RunningService } from '../../../../testing/running-service.js'
import { jobEnds } from '../job-ends.js'

// What was rehearsed is committed exactly so, or not at all, whatever somebody else did in between.
const ROUNDS = Number(process.env['LEDGERMAN_TEST_REHEARSALS'] ?? 24)
let service: RunningService
const { run: runJob } = jobEnds(() => service)
const target = () => service.client.target('observatory')
const sql = (text: string) => service.observatory.sql(text)
beforeAll(async () => {
  service = await startTestService()
  await sql(`create table account (code text primary key, owner text not null, amount numeric(10,2) not null check (amount >= 0), open boolean not null default true, v integer not null default 1);
    create table move (id integer primary key, giver text not null, amount numeric not null, note text); grant all on account, move to ledgerman_worker`)
  const publish = (name: string, rest: string) =>
    target().publishMapping(name, `mapping: ${name}\ntable: public.${name}\n${rest}`)
  await publish(
    'move',
    `key: [id]
guard: { by: none }
properties: { id: { column: id }, giver: { column: giver }, amount: { column: amount }, note: { column: note } }`,
  )
  await publish(
    'account',
    `key: [code]
guard: { by: version, property: v }
properties: { code: { column: code }, owner: { column: owner }, amount: { column: amount }, open: { column: open }, v: { column: v } }
links: { moves: { mapping: move, many: { code: giver } } }`,
  )
})
afterAll(() => service.stop())

const refill = () =>
  sql(`delete from move; delete from account; insert into move values (2, 'A2', 5, 'x'), (3, 'A3', 6, 'y');
    insert into account select 'A' || n, 'o' || n % 2, 10 * n, n % 4 <> 0, n from generate_series(1, 6) n`)
const stored = async () => [
  await sql('select * from account order by code'),
  await sql('select * from move order by id'),
]

/** What somebody else does in between. */
const between = fc.constantFrom(
  null,
  ...[`amount = amount + 1`, `open = not open`, `owner = 'o1'`].map(
    (set) => `update account set ${set} where code = 'A2'`,
  ),
  `update account set v = v + 1 where code = 'A1'`,
  `update account set amount = 77 where code = 'A1'`,
  `update account set amount = amount where code = 'A3'`,
  `update account set open = true`,
  `update account set amount = amount * 10 where owner = 'o0'`,
  `insert into account values ('A0', 'o1', 5)`,
  `delete from account where code = 'A5'`,
  `delete from move where id = 3`,
  `update move set amount = 1 where id = 3`,
  `update move set note = 'z'`,
  `insert into move values (9, 'A1', 1, 'other')`,
)
const STEPS: StepDefinition[] = [
  { load: 'account', as: 'one', key: { code: `'A1'` } },
  { load: 'account', as: 'all', where: `owner = 'o1'`, expect: 'some' },
  { change: 'account', key: { code: `'A2'` }, compute: { amount: 'amount + 1' }, guard: 'any' },
  { change: 'account', key: { code: `'A2'` }, values: { open: true }, guard: 'any' },
  { change: 'account', where: `owner = 'o1'`, compute: { amount: 'amount * 2' } },
  { change: 'account', where: 'amount > 20', values: { open: true } },
  { change: 'account', where: 'exists(moves where amount > 5)', values: { owner: 'o9' } },
  { remove: 'move', key: { id: '2' }, guard: 'any' },
  { remove: 'move', where: 'amount > 5' },
  { add: 'move', values: { id: 9, giver: 'A1', amount: '1', note: 'n' } },
]
const JOBS = [
  { where: `owner = 'o1'`, compute: { amount: 'amount * 2' } },
  { where: 'amount > 20', values: { open: true } },
  { where: `code in ('A1', 'A3')`, values: { owner: 'o9' }, images: 'full' },
  { where: 'open', remove: true },
  { where: 'exists(moves where amount > 3)', compute: { amount: 'amount + 1' } },
  { where: `code < 'A4'`, values: { owner: 'q' }, images: 'none' },
]

/** Does what is in between, and then what was rehearsed: nothing of it, or what `shown` told. */
async function commit<T>(
  what: string | null,
  { shown, committed }: { shown: unknown; committed: () => Promise<T | null> },
  tell: (done: T) => unknown,
): Promise<void> {
  if (what !== null) await sql(what)
  const before = await stored()
  const done = await committed()
  // Nobody came in between: nothing can have become stale.
  if (what === null) expect(done).not.toBeNull()
  if (done === null) expect(await stored()).toEqual(before)
  else expect([what, tell(done)]).toEqual([what, shown])
}

/** Steps and rows of a receipt, but for the guards that only a commit gives. */
const rowsOf = ({ steps }: Receipt) =>
  steps.map(({ no, kind, matched, changed, rows }) => ({
    ...{ no, kind, matched, changed },
    rows: rows.map(({ key, before, after, alsoChanged }) => ({ key, before, after, alsoChanged })),
  }))

it('a run', async () => {
  const steps = fc.shuffledSubarray(STEPS, { minLength: 1, maxLength: 4 })
  await holdsFor(
    ROUNDS,
    fc.asyncProperty(steps, between, async (chosen, what) => {
      await refill()
      const run = (more: Partial<RunInput>) =>
        target()
          .run({ steps: chosen, ...more } as RunInput)
          .catch((error: unknown) => {
            if (!isProblem(error)) throw error
            return null
          })
      const rehearsed = await run({ mode: 'rehearse' })
      if (!rehearsed?.rehearsal) return
      const committed = () => run({ mode: 'commit', rehearsal: rehearsed.rehearsal as string })
      await commit(what, { shown: rowsOf(rehearsed), committed }, rowsOf)
    }),
  )
})

it('a job', async () => {
  await holdsFor(
    ROUNDS / 2,
    fc.asyncProperty(fc.constantFrom(...JOBS), between, async (chosen, what) => {
      await refill()
      const asked = { mapping: 'account', everyRow: true, ...chosen }
      const rehearsed = await runJob({ mode: 'rehearse', ...asked })
      const committed = async () => {
        const job = await runJob({ mode: 'commit', ...asked, rehearsal: rehearsed.rehearsal })
        return job.state === 'done' ? job : null
      }
      await commit(what, { shown: rehearsed.report, committed }, ({ report }) => report)
    }),
  )
})
