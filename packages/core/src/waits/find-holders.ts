import type { LockHolder } from '@ledgerman/contract'
import type { Target } from '../target/target.js'

/**
 * Who blocks a session, and who blocks those, up to the root of the pile: first the ones it waits for itself. `depth` is how many
 * stand between. A cycle ends where it closes.
 */
export async function findHolders(target: Target, pid: number): Promise<LockHolder[]> {
  const { rows } = await target.query(HOLDERS_SQL, [String(pid)], 'lm_holders')
  return rows.map(([json]) => JSON.parse(json ?? '') as LockHolder)
}

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
select json_build_object('pid', a.pid, 'application', a.application_name, 'user', a.usename, 'state', a.state,
  'since', to_char(a.xact_start at time zone 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS.MS"Z"'),
  'transactionAgeMs', round(extract(epoch from clock_timestamp() - a.xact_start) * 1000),
  'lastStatement', left(a.query, 500), 'depth', first.depth, 'isRoot', cardinality(pg_blocking_pids(a.pid)) = 0)::text
from first join pg_stat_activity a on a.pid = first.pid
order by first.depth, a.pid`
