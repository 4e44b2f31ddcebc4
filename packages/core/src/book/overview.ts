import type { Overview } from '@ledgerman/contract'
import type { Target } from '../target/target.js'

/** How many entries are looked at: a busy book has more in an hour. */
const MOST_ENTRIES = 50_000
const HOURS = 24

type BookOverview = Pick<Overview, 'hours' | 'refusals' | 'busiest' | 'looked'>

/**
 * What the newest entries of the book add up to. Ids are in order of time (RFC 9562, version 7), so the primary key finds them.
 *
 * @throws LedgermanProblem target-unavailable, time-limit
 */
export async function bookOverview(target: Target, now: number, signal?: AbortSignal): Promise<BookOverview> {
  const since = now - HOURS * 3_600_000
  const { rows } = await target
    .readBook(OVERVIEW_SQL, [firstIdOf(since), String(MOST_ENTRIES)], signal)
    .catch((error: unknown) => {
      throw target.explain(error)
    })
  const found = JSON.parse(rows[0]?.[0] ?? '{}') as Found
  const hours = new Map((found.hours ?? []).map((hour) => [Date.parse(hour.at), hour]))
  const last = Math.floor(now / 3_600_000) * 3_600_000
  return {
    hours: Array.from({ length: HOURS }, (_, back) => {
      const at = last - (HOURS - 1 - back) * 3_600_000
      const { committed = 0, refused = 0, rows: changed = 0 } = hours.get(at) ?? {}
      return { at: new Date(at).toISOString(), committed, refused, rows: changed }
    }),
    refusals: found.refusals ?? [],
    busiest: { definitions: found.definitions ?? [], records: found.records ?? [] },
    looked: { entries: found.entries ?? 0, since: found.since ?? null },
  }
}

interface Found {
  entries?: number
  since?: string | null
  hours?: { at: string; committed: number; refused: number; rows: number }[] | null
  refusals?: BookOverview['refusals'] | null
  definitions?: BookOverview['busiest']['definitions'] | null
  records?: BookOverview['busiest']['records'] | null
}

/** The least id that an entry of that moment can have. */
function firstIdOf(ms: number): string {
  return Math.max(0, Math.floor(ms))
    .toString(16)
    .padStart(12, '0')
    .replace(/^(.{8})(.{4})$/, '$1-$2-7000-8000-000000000000')
}

const OVERVIEW_SQL = `
with newest as materialized (
  select e.at, e.outcome, e.problem, e.changed, e.key, e.run->>'transaction' as transaction, e.statement
  from ledgerman.entry e where e.id >= $1::uuid order by e.id desc limit $2::integer
), named as (
  select n.*, s.mapping from newest n left join ledgerman.statement s on s.id = n.statement
)
select pg_catalog.jsonb_build_object(
  'entries', (select count(*) from newest),
  'since', (select pg_catalog.to_char(min(at) at time zone 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS"Z"') from newest),
  'hours', (select jsonb_agg(h) from (
    select pg_catalog.to_char(pg_catalog.date_trunc('hour', at at time zone 'UTC'), 'YYYY-MM-DD"T"HH24:MI:SS"Z"') as at,
      count(*) filter (where outcome = 'committed') as committed, count(*) filter (where outcome = 'refused') as refused,
      coalesce(sum(changed) filter (where outcome = 'committed'), 0) as rows
    from newest group by 1) h),
  'refusals', (select jsonb_agg(r) from (
    select problem as code, count(*) as count from newest
    where outcome = 'refused' and problem is not null and at > now() - interval '1 hour' group by 1 order by 2 desc, 1 limit 20) r),
  'definitions', (select jsonb_agg(d) from (
    select coalesce(transaction, mapping) as name, case when transaction is null then 'mapping' else 'transaction' end as kind,
      count(*) as runs, coalesce(sum(changed), 0) as rows
    from named where outcome = 'committed' and coalesce(transaction, mapping, '') <> '' group by 1, 2 order by 3 desc, 1 limit 6) d),
  'records', (select jsonb_agg(k) from (
    select mapping, key, count(*) as changes from named
    where outcome = 'committed' and key is not null and coalesce(mapping, '') <> '' group by 1, 2 order by 3 desc, 1, 2 limit 6) k)
)::text`
