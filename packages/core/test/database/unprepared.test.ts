import type { StepDefinition } from '@ledgerman/contract'
import {
  changeRecord,
  findRecords,
  loadRecord,
  parseKeyParts,
  resolvePlan,
  runPlan,
  Target,
  type Mapping,
} from '@ledgerman/core'
import { codeOf, openOwnTables, type OwnTables } from '../../../../testing/own-tables.js'

// A proxy in between may not pass prepared statements on.
let own: OwnTables
let target: Target
let account: Mapping

beforeAll(async () => {
  own = await openOwnTables()
  account = await own.mapped(
    'public.account',
    `create table account (code text primary key, amount numeric(10,2) not null check (amount >= 0), v integer not null default 1);
     insert into account select 'A' || n, 100 from generate_series(1, 20) n`,
    { guard: { by: 'version', property: 'v' } },
  )
  const options = { name: 'own', url: own.database.url, connections: 4, digestKey: Buffer.from('k') }
  // On a slow machine the last of many in line wait longer than callers commonly may.
  target = new Target({ ...options, prepareStatements: false, limits: { lockWaitMs: 20_000, timeLimitMs: 30_000 } })
})
afterAll(async () => {
  await target.close()
  await own.close()
})

const MOVE: StepDefinition[] = [
  { load: 'account', as: 'both', where: 'code in (:from, :to)', expect: 2, lock: 'change' },
  { load: 'account', as: 'giver', key: { code: ':from' } },
  { require: 'giver.amount >= :n', otherwise: 'Too few.' },
  { change: 'account', key: { code: ':from' }, compute: { amount: 'amount - :n' } },
  { change: 'account', key: { code: ':to' }, compute: { amount: 'amount + :n' } },
]

describe('a target without prepared statements', () => {
  it('loads, finds, changes and runs, alone and many at once, and prepares nothing', async () => {
    const keys = Array.from({ length: 20 }, (_, at) => parseKeyParts(account, [`A${at + 1}`]))
    const loaded = await Promise.all(keys.map((key) => loadRecord(target, account, key)))
    const changed = await Promise.all(
      keys.map((key, at) =>
        changeRecord(target, account, {
          key,
          values: { amount: '200' },
          guard: { guards: [loaded[at]?.guard ?? ''] },
          mode: 'commit',
          actor: 'test',
        }),
      ),
    )
    expect(changed.map(({ record }) => record['amount'])).toEqual(keys.map(() => '200.00'))
    const found = await findRecords(target, account, { where: 'amount = 200', limit: 50 }, () =>
      Promise.resolve(account),
    )
    expect(found.found).toHaveLength(20)

    const params = { from: { type: 'text' }, to: { type: 'text' }, n: { type: 'numeric' } }
    const plan = await resolvePlan(target, { params, steps: MOVE }, 'move', 1, () => Promise.resolve(account))
    const move = (from: number, to: number, n: string, mode: 'commit' | 'rehearse' = 'commit') =>
      codeOf(runPlan(target, plan, { mode, actor: 'test', params: { from: `A${from}`, to: `A${to}`, n } }))
    expect(await move(1, 2, '5')).toBe('done')
    expect(await move(1, 2, '5', 'rehearse')).toBe('done')
    expect(await move(1, 2, '5000')).toBe('rule-broken')
    const many = Array.from({ length: 120 }, (_, turn) => move(1 + (turn % 3), 1 + ((turn + 1) % 3), '0.01'))
    expect(new Set(await Promise.all(many))).toEqual(new Set(['done']))

    const sessions = Array.from({ length: 4 }, () =>
      target.query('select count(*) from pg_prepared_statements, pg_sleep(0.1)'),
    )
    expect((await Promise.all(sessions)).map(({ rows }) => rows[0]?.[0])).toEqual(['0', '0', '0', '0'])
    expect(
      await own.database.sql(`select sum(amount)::text as sum,
        (select count(*)::int from ledgerman.entry where outcome = 'committed') as entries from account`),
    ).toEqual([{ sum: '4000.00', entries: 20 + 1 + 120 }])
  })
})
