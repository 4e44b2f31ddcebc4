import type { WaitingSession } from '@ledgerman/contract'
import type { Lookout } from '../sessions/queryable.js'

/** From when a session that is idle in a transaction is flagged, in milliseconds. */
export const IDLE_LIMIT_MS = 5_000

interface SessionRow {
  pid: number
  startedAt: string
  blockedBy: number[]
  application: string | null
  user: string | null
  state: string | null
  transactionAgeMs: number | null
  idleMs: number | null
  lastStatement: string | null
  waits: { type: string; mode: string; table: string | null } | null
  rowTable: string | null
  held: { table: string; mode: string }[]
}

/**
 * Who blocks whom, right now: every session that waits for a lock, every one that is waited for, and those idle in a transaction
 * for long. `pg_blocking_pids` is asked of waiting sessions only, since it stops the lock manager for a moment.
 */
export async function listWaits(target: Lookout): Promise<WaitingSession[]> {
  const { rows } = await target.control(WAITS_SQL, [String(IDLE_LIMIT_MS)], 'lm_waits')
  const found = rows.map(([json]) => JSON.parse(json ?? '') as SessionRow)
  const behind = countBehind(found)
  const wanted = new Set(found.flatMap(({ waits, rowTable }) => waits?.table ?? rowTable ?? []))
  return found
    .map((row) => toSession(row, behind.get(row.pid) ?? 0, wanted))
    .sort((one, other) => Number(other.isRoot) - Number(one.isRoot) || other.behind - one.behind || one.pid - other.pid)
}

function toSession(row: SessionRow, behind: number, wanted: ReadonlySet<string>): WaitingSession {
  const { waits, rowTable } = row
  const isRow = waits !== null && /^(transactionid|tuple)$/.test(waits.type)
  const isTable = waits?.type === 'relation'
  const holds = row.held.filter(({ table }) => wanted.has(table))
  return {
    pid: row.pid,
    startedAt: row.startedAt,
    blockedBy: row.blockedBy,
    behind,
    isRoot: behind > 0 && row.blockedBy.length === 0,
    application: row.application,
    user: row.user,
    state: row.state,
    transactionAgeMs: row.transactionAgeMs,
    idleMs: row.idleMs,
    isIdleTooLong: (row.state ?? '').startsWith('idle in transaction') && (row.idleMs ?? 0) >= IDLE_LIMIT_MS,
    lastStatement: row.lastStatement,
    wants: waits === null ? null : isRow ? 'row' : isTable ? `table, ${waits.mode}` : `${waits.type}, ${waits.mode}`,
    lock: waits === null ? null : isRow ? 'row' : isTable ? 'table' : 'other',
    table: waits?.table ?? (isRow ? rowTable : null) ?? holds[0]?.table ?? null,
    holds: holds.map(({ table, mode }) => `${table}, ${mode}`),
    run: /^ledgerman run ([0-9a-f-]{36})$/.exec(row.application ?? '')?.[1] ?? null,
  }
}

/** How many sessions wait for each, directly or through others; one that stands in a circle is counted once. */
function countBehind(sessions: readonly SessionRow[]): Map<number, number> {
  const waiters = new Map<number, number[]>()
  for (const { pid, blockedBy } of sessions)
    for (const blocker of blockedBy) waiters.set(blocker, [...(waiters.get(blocker) ?? []), pid])
  return new Map(
    [...waiters.keys()].map((pid) => {
      const reached = new Set<number>()
      const open = [pid]
      for (let next = open.pop(); next !== undefined; next = open.pop())
        for (const waiter of waiters.get(next) ?? [])
          if (waiter !== pid && !reached.has(waiter)) {
            reached.add(waiter)
            open.push(waiter)
          }
      return [pid, reached.size]
    }),
  )
}

/** A lone name is one in the schema public, as wherever a table is named. */
const tableOf = (alias: string) => `regexp_replace(${alias}.relation::regclass::text, '^public\\.', '')`

const WAITS_SQL = `
with activity as materialized (
  select pid, backend_start, application_name, usename, state, xact_start, state_change, query, wait_event_type
  from pg_stat_activity where datname = current_database() and backend_type = 'client backend' and pid <> pg_backend_pid()
), waiting as materialized (
  select pid, pg_blocking_pids(pid) as by from activity where wait_event_type = 'Lock'
), locks as materialized (
  select pid, locktype, mode, granted, relation from pg_locks
  where database = (select oid from pg_database where datname = current_database()) or locktype in ('transactionid', 'virtualxid')
), involved as materialized (
  select pid from waiting union select unnest(by) from waiting
  union select pid from activity where state like 'idle in transaction%' and state_change < clock_timestamp() - $1::integer * interval '1 ms'
), wanted as materialized (
  select distinct on (pid) pid, locktype, mode, relation from locks where not granted
), row_of as materialized (
  select pid, min(relation::text)::oid as relation from locks where locktype = 'tuple' group by pid
), held as materialized (
  select l.pid, json_agg(distinct jsonb_build_object('table', ${tableOf('l')}, 'mode', l.mode)) as list
  from locks l join pg_class c on c.oid = l.relation
  where l.granted and l.locktype = 'relation' and c.relkind in ('r', 'p') and l.mode <> 'AccessShareLock'
    and l.relation in (select relation from wanted where relation is not null union select relation from row_of)
  group by l.pid
)
select json_build_object('pid', a.pid, 'startedAt', to_char(a.backend_start at time zone 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS.US"Z"'),
  'blockedBy', coalesce((select array_to_json(array(select distinct unnest(b.by)))), '[]'),
  'application', a.application_name, 'user', a.usename, 'state', a.state,
  'transactionAgeMs', round(extract(epoch from clock_timestamp() - a.xact_start) * 1000),
  'idleMs', case when a.state like 'idle%' then round(extract(epoch from clock_timestamp() - a.state_change) * 1000) end,
  'lastStatement', left(a.query, 1000),
  'waits', case when w.pid is not null then json_build_object('type', w.locktype, 'mode', w.mode, 'table', ${tableOf('w')}) end,
  'rowTable', ${tableOf('r')}, 'held', coalesce(h.list, '[]'))::text
from involved join activity a on a.pid = involved.pid
left join waiting b on b.pid = a.pid left join wanted w on w.pid = a.pid left join row_of r on r.pid = a.pid left join held h on h.pid = a.pid`
