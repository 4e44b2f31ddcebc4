import type pg from 'pg'
import { transactionDefinition } from '@ledgerman/contract'
import { resolvePlan, runPlan, type Mapping, type Target } from '@ledgerman/core'
import { compare, type Ratio } from '../compare.js'

/** A transfer between two rows with a rule in the middle, as the demo's move-hours. */
const transfer = transactionDefinition.parse({
  transaction: 'transfer',
  params: { from: { type: 'integer' }, to: { type: 'integer' }, hours: { type: 'numeric', rule: ':hours > 0' } },
  steps: [
    { load: 'allocation', as: 'both', where: 'id in (:from, :to)', expect: 2, lock: 'change' },
    { load: 'allocation', as: 'giver', key: { id: ':from' } },
    { require: 'giver.hours >= :hours', otherwise: '{giver.code} has too few.' },
    { change: 'allocation', key: { id: ':from' }, compute: { hours: 'hours - :hours' } },
    { change: 'allocation', key: { id: ':to' }, compute: { hours: 'hours + :hours' } },
  ],
})

/** Two different rows among so many, each pair by chance. */
export function pairOf(rows: number): [string, string] {
  const from = 1 + Math.floor(Math.random() * rows)
  const to = 1 + ((from + Math.floor(Math.random() * (rows - 1))) % rows)
  return [String(from), String(to)]
}

/** Gives every row enough for all transfers of a run. */
export async function fill(pool: pg.Pool): Promise<void> {
  await pool.query('update allocation set hours = 100000')
}

export async function compareTransfers(
  target: Target,
  mapping: Mapping,
  pool: pg.Pool,
  rows: number,
): Promise<Ratio[]> {
  const { transaction, ...definition } = transfer
  const plan = await resolvePlan(target, definition, transaction, 1, () => Promise.resolve(mapping))
  await fill(pool)
  return compare(
    [
      { name: 'hand-written, no audit (5 round trips)', once: () => transferByHand(pool, ...pairOf(rows), false) },
      { name: 'hand-written, equal audit (8 round trips)', once: () => transferByHand(pool, ...pairOf(rows), true) },
      {
        name: 'Ledgerman core, with its entry (1 round trip)',
        once: () => {
          const [from, to] = pairOf(rows)
          return runPlan(target, plan, { mode: 'commit', actor: 'bench', params: { from, to, hours: '0.01' } })
        },
      },
    ],
    { rounds: 8 },
  )
}

export const transferDefinition = transfer

/** What a careful program does: both rows locked in order, the rule looked at, two updates; with an audit row a row where asked. */
export async function transferByHand(pool: pg.Pool, from: string, to: string, isAudited: boolean): Promise<void> {
  const client = await pool.connect()
  try {
    await client.query('begin')
    const { rows } = await client.query<{ id: number; hours: string; row_version: number }>({
      name: 'lock-both',
      text: 'select id, code, title, hours, priority, note, row_version from allocation where id in ($1, $2) order by id for no key update',
      values: [from, to],
    })
    const giver = rows.find(({ id }) => String(id) === from)
    if (rows.length !== 2 || !giver || Number(giver.hours) < 0.01) throw new Error('refused')
    for (const [id, sign] of [
      [from, '-'],
      [to, '+'],
    ]) {
      const { rows: written } = await client.query({
        name: `move ${sign}`,
        text: `update allocation set hours = hours ${sign} $2, row_version = row_version + 1 where id = $1 returning id, hours, row_version`,
        values: [id, '0.01'],
      })
      if (!isAudited) continue
      await client.query({
        name: 'audit-move',
        text: 'insert into audit.entry (id, actor, statement, binds, key, matched, changed, before, after) values (gen_random_uuid(), $1, 1, $2, $3, 1, 1, $4, $5)',
        values: [
          'bench',
          [id, '0.01'],
          [id],
          JSON.stringify(rows.find((row) => String(row.id) === id)),
          JSON.stringify(written[0]),
        ],
      })
    }
    if (isAudited)
      await client.query({
        name: 'audit-run',
        text: `insert into audit.entry (id, actor, statement, matched, changed) values (gen_random_uuid(), 'bench', 1, 2, 2)`,
      })
    await client.query('commit')
  } catch (error) {
    await client.query('rollback')
    throw error
  } finally {
    client.release()
  }
}
