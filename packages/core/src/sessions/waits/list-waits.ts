import type { WaitingSession } from '@ledgerman/contract'
import type { Lookout } from '../queryable.js'
import { APPLICATION, IS_OF_PREPARED, IS_SAME_LOCK, PREPARED_SQL } from '../holder-sql.js'

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
 * for long; prepared transactions stand among them. `pg_blocking_pids` is asked of waiting sessions only, since it stops the lock manager for a moment.
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
    isIdleTooLong: isIdleTooLong(row),
    lastStatement: row.lastStatement,
    wants: waits === null ? null : isRow ? 'row' : isTable ? `table, ${waits.mode}` : `${waits.type}, ${waits.mode}`,
    lock: waits === null ? null : isRow ? 'row' : isTable ? 'table' : 'other',
    table: waits?.table ?? (isRow ? rowTable : null) ?? holds[0]?.table ?? null,
    holds: holds.map(({ table, mode }) => `${table}, ${mode}`),
    run: /^ledgerman run ([0-9a-f-]{36})$/.exec(row.application ?? '')?.[1] ?? null,
  }
}

/** A prepared transaction does nothing any more but hold what it has. */
function isIdleTooLong({ state, idleMs, transactionAgeMs }: SessionRow): boolean {
  const forMs = state === 'prepared' ? transactionAgeMs : state?.startsWith('idle in transaction') ? idleMs : null
  return (forMs ?? 0) >= IDLE_LIMIT_MS
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
with prepared as materialized (
  select * from ${PREPARED_SQL} p where p.database = current_database()
), everyone as materialized (
  select a.pid::bigint, a.backend_start, ${APPLICATION} as application, a.usename, nullif(a.state, 'disabled') as state, a.xact_start, a.state_change, a.query, a.wait_event_type,
    a.backend_type = 'client backend' as is_client
  from pg_stat_activity a where a.datname = current_database() and a.pid <> pg_backend_pid()
  union all
  select pid, prepared, gid, owner, 'prepared', prepared, prepared, null, null, true from prepared
), waiting as materialized (
  select pid, pg_blocking_pids(pid::integer) as by from everyone where wait_event_type = 'Lock'
), blocked as materialized (
  select w.pid, by.pid::bigint as by from waiting w cross join lateral unnest(w.by) as by(pid) where by.pid <> 0
  union
  select w.pid, p.pid from waiting b join pg_locks w on w.pid = b.pid and not w.granted
    join pg_locks l on l.granted and l.pid is null and ${IS_SAME_LOCK} join prepared p on ${IS_OF_PREPARED}
  where 0 = any (b.by)
), locks as materialized (
  select coalesce(l.pid, p.pid) as pid, l.locktype, l.mode, l.granted, l.relation from pg_locks l left join prepared p on ${IS_OF_PREPARED}
  where l.database = (select oid from pg_database where datname = current_database()) or l.locktype in ('transactionid', 'virtualxid')
), involved as materialized (
  select pid from waiting where pid in (select pid from everyone where is_client) union select by from blocked
  union select pid from everyone where (state like 'idle in transaction%' or state = 'prepared') and state_change < clock_timestamp() - $1::integer * interval '1 ms'
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
  'blockedBy', coalesce((select json_agg(b.by order by b.by) from blocked b where b.pid = a.pid), '[]'),
  'application', a.application, 'user', a.usename, 'state', a.state,
  'transactionAgeMs', round(extract(epoch from clock_timestamp() - a.xact_start) * 1000),
  'idleMs', case when a.state like 'idle%' then round(extract(epoch from clock_timestamp() - a.state_change) * 1000) end,
  'lastStatement', left(a.query, 1000),
  'waits', case when w.pid is not null then json_build_object('type', w.locktype, 'mode', w.mode, 'table', ${tableOf('w')}) end,
  'rowTable', ${tableOf('r')}, 'held', coalesce(h.list, '[]'))::text
from involved join everyone a on a.pid = involved.pid
left join wanted w on w.pid = a.pid left join row_of r on r.pid = a.pid left join held h on h.pid = a.pid`
