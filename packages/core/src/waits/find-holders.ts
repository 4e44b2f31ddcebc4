import type { LockHolder, TablePath } from '@ledgerman/contract'
import type { Lookout } from '../sessions/queryable.js'

/**
 * Who blocks a session, and who blocks those, up to the root of the pile: first the ones it waits for itself. `depth` is how many
 * stand between. A cycle ends where it closes.
 */
export async function findHolders(target: Lookout, pid: number): Promise<LockHolder[]> {
  const { rows } = await target.control(HOLDERS_SQL, [String(pid)], 'lm_holders')
  return rows.map(([json]) => JSON.parse(json ?? '') as LockHolder)
}

/** Who holds a whole table, so that not even its columns can be read: for when that could not be done in time. */
export async function findTableHolders(target: Lookout, { schema, name }: TablePath): Promise<LockHolder[]> {
  const { rows } = await target.control(TABLE_HOLDERS_SQL, [schema, name], 'lm_table_holders')
  return rows.map(([json]) => JSON.parse(json ?? '') as LockHolder)
}

const HOLDER_JSON = `json_build_object('pid', a.pid, 'application', a.application_name, 'user', a.usename, 'state', a.state,
  'since', to_char(a.xact_start at time zone 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS.MS"Z"'),
  'transactionAgeMs', round(extract(epoch from clock_timestamp() - a.xact_start) * 1000),
  'lastStatement', left(a.query, 500), `

const TABLE_HOLDERS_SQL = `
select (${HOLDER_JSON} 'depth', 1, 'isRoot', true))::text
from pg_locks l join pg_class c on c.oid = l.relation join pg_namespace n on n.oid = c.relnamespace join pg_stat_activity a on a.pid = l.pid
where l.granted and l.mode = 'AccessExclusiveLock' and l.database = (select oid from pg_database where datname = current_database())
  and n.nspname = $1 and c.relname = $2`

const HOLDERS_SQL = `
with recursive chain as (
  select blocker as pid, 1 as depth, array[$1::integer, blocker] as path from unnest(pg_blocking_pids($1::integer)) blocker
  union all
  select blocker, chain.depth + 1, chain.path || blocker
  from chain cross join lateral unnest(pg_blocking_pids(chain.pid)) blocker
  where blocker <> all (chain.path) and chain.depth < 20
), first as (
  select pid, min(depth) as depth from chain group by pid
)
select (${HOLDER_JSON} 'depth', first.depth, 'isRoot', cardinality(pg_blocking_pids(a.pid)) = 0))::text
from first join pg_stat_activity a on a.pid = first.pid
order by first.depth, a.pid`
