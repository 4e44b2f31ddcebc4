import fc from 'fast-check'
import { PLACEHOLDER_STYLES, restyle, type StepDefinition } from '@ledgerman/contract'
import { getEntry, resolvePlan, runPlan, type Mapping } from '@ledgerman/core'
import type { TestDatabase } from '../../../../testing/databases.js'
import { openOwnTables, type OwnTables } from '../../../../testing/own-tables.js'

let own: OwnTables
let byHand: Awaited<ReturnType<TestDatabase['session']>>
const mappings = new Map<string, Mapping>()

// Names that need quotes, a column called like the alias of a statement, a link, a limited text, an enum, money, json.
const MAKE = `create type "Phase" as enum ('open', 'closed');
  create table "Lead" (id integer primary key, "name" text not null);
  create table account (code text primary key, t integer not null, "Owner" varchar(8), amount numeric(10,2) not null check (amount >= 0),
    phase "Phase" not null default 'open', fee money, settings jsonb, lead integer references "Lead", v integer not null default 1)`
const FILL = `delete from account; delete from "Lead"; delete from ledgerman.entry; delete from ledgerman.image; delete from ledgerman.image_block;
  insert into "Lead" select n, 'lead ' || n from generate_series(1, 3) n;
  insert into account select 'A' || n, n, 'o' || n % 2, 10 * n, case when n % 3 = 0 then 'closed' else 'open' end::"Phase", n, '{"a": 1}', n % 4 + 1, n
    from generate_series(1, 6) n where n <> 3;
  insert into account values ('A3', 3, null, 30, 'open', null, null, null, 1)`

beforeAll(async () => {
  own = await openOwnTables()
  const guard = { by: 'version', property: 'v' } as const
  mappings.set('lead', await own.mapped('public.Lead', MAKE, { guard: { by: 'none' } }))
  const links = { leader: { mapping: 'lead', on: { lead: 'id' } } }
  mappings.set('account', await own.mapped('public.account', 'select 1', { guard, links } as never))
  byHand = await own.database.session()
})
afterAll(async () => {
  await byHand.end()
  await own.close()
})

const STEPS: StepDefinition[] = [
  { change: 'account', key: { code: ':from' }, values: { phase: 'closed', owner: 'nobody', fee: '1.50' } },
  { change: 'account', key: { code: ':to' }, compute: { amount: 'amount + :n', t: 't * 2' }, values: { settings: {} } },
  { change: 'account', where: `phase = 'open' and t > :n`, expect: 'any', compute: { owner: `coalesce(owner, 'x')` } },
  { change: 'account', where: `leader.name = 'lead 2' and t > 0`, expect: 'any', compute: { t: 'leader.id + 5' } },
  { remove: 'account', where: `leader.id = 3`, expect: 'any' },
  { change: 'account', where: `lead = 2 or amount > 40`, expect: 'any', compute: { amount: 'amount - 1' } },
  { remove: 'account', key: { code: `'A6'` } },
  { remove: 'account', where: 't = :n', expect: 'any' },
  { add: 'account', compute: { code: ':from || :to', amount: ':n', t: '1' }, values: { phase: 'open' } },
  { add: 'account', onExisting: 'change', compute: { code: ':from', amount: ':n', t: '1' } },
  { add: 'account', onExisting: 'keep', compute: { code: ':to', amount: ':n', t: '1' } },
]

// A row that has the values already is not written by the whole statement: its version alone differs.
const left = async (): Promise<unknown> =>
  (await byHand.query(`select (to_jsonb(a) - 'v')::text as row from account a order by code`)).rows

describe('the short form of a statement', () => {
  it('leaves by hand, in any style, what the run leaves', async () => {
    let shown = 0
    await fc.assert(
      fc.asyncProperty(
        fc.shuffledSubarray(STEPS, { minLength: 1, maxLength: 4 }),
        fc.constantFrom('A1', 'A2', 'A3', 'A5'),
        fc.constantFrom('A1', 'A2', 'A4'),
        fc.integer({ min: 0, max: 12 }),
        async (steps, from, to, n) => {
          await byHand.query(FILL)
          const plan = await resolvePlan(
            own.target,
            {
              params: { from: { type: 'text' }, to: { type: 'text' }, n: { type: 'numeric' } },
              steps: [...steps, { require: ':from is not null and :to is not null and :n is not null' }],
            },
            'test',
            1,
            (name) => Promise.resolve(mappings.get(name) as Mapping),
          )
          const request = { actor: 'tester', params: { from, to, n: String(n) }, mode: 'commit' as const }
          const done = await runPlan(own.target, plan, request).catch(() => undefined)
          if (!done) return
          const after = await left()
          const entry = await getEntry(own.target, done.receipt.id, (name) =>
            Promise.resolve(mappings.get(name) as Mapping),
          )

          await byHand.query(FILL)
          for (const [at, { kind, short }] of done.receipt.steps.entries()) {
            if (kind === 'require') continue
            expect(short?.around.at(-1)).toContain('writes the entry')
            expect(entry.receipt.steps[at]?.short?.statement).toBe(short?.statement)
            // Each placeholder has its value in every style: by place, or by name.
            for (const style of PLACEHOLDER_STYLES)
              expect(restyle(short as never, style).binds).toHaveLength(short?.binds.length ?? 0)
            await byHand.query(short?.statement ?? '', short?.binds.map(({ value }) => value) ?? [])
            shown++
          }
          expect(await left()).toEqual(after)
        },
      ),
      { numRuns: 10 },
    )
    expect(shown).toBeGreaterThan(8)
  })

  it('is what one would have written', async () => {
    await byHand.query(FILL)
    const textOf = async (step: StepDefinition) => {
      const plan = await resolvePlan(own.target, { steps: [step] }, 'test', 1, (name) =>
        Promise.resolve(mappings.get(name) as Mapping),
      )
      const { receipt } = await runPlan(own.target, plan, { actor: 'tester', params: {}, mode: 'rehearse' })
      return receipt.steps[0]?.short?.statement.replaceAll('\n', ' ')
    }
    expect(await textOf({ change: 'account', key: { code: `'A1'` }, values: { phase: 'closed' } })).toBe(
      `update public.account set phase = $1, v = v + 1 where code = $2`,
    )
    expect(await textOf({ change: 'account', where: 'amount > 20', expect: 'any', compute: { t: 't + 1' } })).toBe(
      `update public.account set t = t + $1::integer, v = v + 1 where amount > $2::numeric`,
    )
    expect(await textOf({ load: 'account', as: 'one', key: { code: `'A1'` }, lock: 'change' })).toMatch(
      /^select code, .* from public.account where code = \$1 for no key update$/,
    )
  })
})
