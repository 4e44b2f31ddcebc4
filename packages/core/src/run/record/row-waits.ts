import { LedgermanProblem, type WaitingSession } from '@ledgerman/contract'
import type { KeyTexts, Mapping } from '../../mapping/mapping.js'
import { keyConditionSql } from '../../statement/key-sql.js'
import { bindValues, SlotList, toStatement } from '../../statement/statement.js'
import type { Target } from '../../target/target.js'
import { listWaits } from '../../sessions/waits/list-waits.js'

/**
 * The sessions that wait for one row, and those that they wait for, directly or through others. Whoever waits for a row holds the
 * lock of its place, or waits for that (PostgreSQL, "Row-Level Locks"; README.tuplock of its source).
 *
 * @throws LedgermanProblem request-invalid for a view, whose rows stand in other tables.
 */
export async function listRowWaits(target: Target, mapping: Mapping, key: KeyTexts): Promise<WaitingSession[]> {
  const { table } = mapping
  if (table.kind !== 'table' && table.kind !== 'partitioned table')
    throw new LedgermanProblem(
      'request-invalid',
      `${table.path} is a ${table.kind}: its rows stand in other tables, where who waits for them is not known by its key.`,
      { where: 'path' },
    )
  const slots = new SlotList()
  const condition = keyConditionSql(mapping.key, 't', slots)
  const statement = toStatement(
    `select distinct l.pid::text
from ${table.sql} as t join pg_catalog.pg_locks as l
  on l.locktype operator(pg_catalog.=) 'tuple' and l.relation operator(pg_catalog.=) t.tableoid
  and pg_catalog.format('(%s,%s)', l.page, l.tuple) operator(pg_catalog.=) t.ctid::text
where ${condition}`,
    slots,
  )
  const values = bindValues(statement, (source) => (source.from === 'key' ? (key.get(source.property) ?? null) : null))
  try {
    const { rows } = await target.control(statement.text, values, statement.name)
    if (rows.length === 0) return []
    return involvedIn(await listWaits(target), new Set(rows.map(([pid]) => Number(pid))))
  } catch (error) {
    throw target.explain(error)
  }
}

/** These sessions, and all that they wait for. */
function involvedIn(sessions: readonly WaitingSession[], waiting: Set<number>): WaitingSession[] {
  const byPid = new Map(sessions.map((session) => [session.pid, session]))
  const reached = new Set<number>()
  const open = [...waiting]
  for (let pid = open.pop(); pid !== undefined; pid = open.pop()) {
    if (reached.has(pid)) continue
    reached.add(pid)
    open.push(...(byPid.get(pid)?.blockedBy ?? []))
  }
  return sessions.filter(({ pid }) => reached.has(pid))
}
