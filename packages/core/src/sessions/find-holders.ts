import type { LockHolder, TablePath } from '@ledgerman/contract'
import type { Lookout } from './queryable.js'
import { APPLICATION, IS_OF_PREPARED, IS_SAME_LOCK, PREPARED_SQL } from './holder-sql.js'

/**
 * Who blocks a session, and who blocks those, up to the root of the pile: first the ones it waits for itself. `depth` is how many
 * stand between. A cycle ends where it closes.
 */
export async function findHolders(target: Lookout, pid: number): Promise<LockHolder[]> {
  const { rows } = await target.control(HOLDERS_SQL, [String(pid)], 'lm_holders')
  const holders = rows.flatMap(([json]) => (json ? [JSON.parse(json) as LockHolder] : []))
  // Only who waits for a prepared transaction has to look into the locks, which stops the lock manager for a moment.
  if (holders.length === rows.length) return holders
  const prepared = await target.control(PREPARED_HOLDERS_SQL, [String(pid)])
  return [...holders, ...prepared.rows.map(([json]) => JSON.parse(json ?? '') as LockHolder)].sort(
    (one, other) => one.depth - other.depth || one.pid - other.pid,
  )
}

/** Who holds a whole table, so that not even its columns can be read: for when that could not be done in time. */
export async function findTableHolders(target: Lookout, { schema, name }: TablePath): Promise<LockHolder[]> {
  const { rows } = await target.control(TABLE_HOLDERS_SQL, [schema, name], 'lm_table_holders')
  return rows.map(([json]) => JSON.parse(json ?? '') as LockHolder)
}

const MOMENT = (sql: string) => `to_char(${sql} at time zone 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS.MS"Z"')`

// Of a session that is not watched (`track_activities`) PostgreSQL says that it is "disabled", which is no state of it.
const HOLDER_JSON = `json_build_object('pid', a.pid, 'application', ${APPLICATION}, 'user', a.usename, 'state', nullif(a.state, 'disabled'),
  'since', ${MOMENT('a.xact_start')},
  'transactionAgeMs', round(extract(epoch from clock_timestamp() - a.xact_start) * 1000),
  'lastStatement', left(a.query, 500), `

const PREPARED_JSON = `json_build_object('pid', p.pid, 'application', p.gid, 'user', p.owner, 'state', 'prepared',
  'since', ${MOMENT('p.prepared')},
  'transactionAgeMs', round(extract(epoch from clock_timestamp() - p.prepared) * 1000),
  'lastStatement', null, `

const TABLE_HOLDERS_SQL = `
select (case when a.pid is null then ${PREPARED_JSON} 'depth', 1, 'isRoot', true) else ${HOLDER_JSON} 'depth', 1, 'isRoot', true) end)::text
from pg_locks l join pg_class c on c.oid = l.relation join pg_namespace n on n.oid = c.relnamespace
  left join pg_stat_activity a on a.pid = l.pid left join ${PREPARED_SQL} p on ${IS_OF_PREPARED}
where l.granted and l.mode = 'AccessExclusiveLock' and l.database = (select oid from pg_database where datname = current_database())
  and n.nspname = $1 and c.relname = $2 and (a.pid is not null or p.gid is not null)`

const CHAIN_SQL = `
with recursive chain as (
  select blocker as pid, 1 as depth, array[$1::integer, blocker] as path from unnest(pg_blocking_pids($1::integer)) blocker
  union all
  select blocker, chain.depth + 1, chain.path || blocker
  from chain cross join lateral unnest(pg_blocking_pids(chain.pid)) blocker
  where blocker <> all (chain.path) and chain.depth < 20
)`

/** A row without a holder says that there is a prepared transaction among them. */
const HOLDERS_SQL = `${CHAIN_SQL}, first as (
  select pid, min(depth) as depth from chain group by pid
)
select case when a.pid is not null then ${HOLDER_JSON} 'depth', first.depth, 'isRoot', cardinality(pg_blocking_pids(a.pid)) = 0)::text end
from first left join pg_stat_activity a on a.pid = first.pid
where a.pid is not null or first.pid = 0
order by first.depth, a.pid`

const PREPARED_HOLDERS_SQL = `${CHAIN_SQL}, held as (
  select p.pid, min(chain.depth) as depth
  from chain join pg_locks w on w.pid = chain.path[chain.depth] and not w.granted
    join pg_locks l on l.granted and l.pid is null and ${IS_SAME_LOCK} join ${PREPARED_SQL} p on ${IS_OF_PREPARED}
  where chain.pid = 0 group by p.pid
)
select (${PREPARED_JSON} 'depth', held.depth, 'isRoot', true))::text
from held join ${PREPARED_SQL} p on p.pid = held.pid`
