import { isProblem } from '@ledgerman/contract'
import type { Mapping } from '../mapping/mapping.js'
import type { Target } from '../target/target.js'

/** `$1` is the relation, `$2` the moment. Of jobs without images there are few: their keys are found in the index of those that have one. */
const UNKNOWN_SQL = `
with jobs as materialized (
  select e.actor, e.request_key from ledgerman.entry e where e.request_key is not null and e.request_key like 'job:%'
), unseen as (
  select e.id from jobs j join ledgerman.entry e on e.actor = j.actor and e.request_key = j.request_key
  where e.at > $2::timestamptz and e.outcome = 'committed' and e.changed > 0 and e.run->>'images' = 'none' and exists (
    select from ledgerman.step p join ledgerman.statement s on s.id = p.statement where p.entry = e.id and s.relation = $1)
  order by e.at limit 1
), pruned as (
  select max((e.run->'pruned'->>'at')::timestamptz) as at from ledgerman.entry e
  where e.run ? 'pruned' and e.outcome = 'committed'
    and exists (select from ledgerman.leaf l where l.no = 0 and not exists (select from ledgerman.entry o where o.id = l.entry))
), begun as (
  select min(b.prepared_at) as at from ledgerman.book b
)
select case when begun.at > $2::timestamptz then to_char(begun.at at time zone 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS"Z"') end,
  case when pruned.at > $2::timestamptz then to_char(pruned.at at time zone 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS"Z"') end, (select id from unseen)
from begun cross join pruned`

/**
 * What the book does not know of the records of a table since a moment, in words: of the time before it began, of what was pruned, of what
 * was done without images.
 *
 * @param at an instant (RFC 3339)
 */
export async function unknownSince(target: Target, { table }: Mapping, at: string): Promise<string[]> {
  try {
    const { rows } = await target.readBook(UNKNOWN_SQL, [table.path, at])
    const [begun, pruned, unseen] = rows[0] ?? []
    return [
      ...(begun ? [`the book begins at ${begun}; what was done before is not known`] : []),
      ...(pruned ? [`what was done before ${pruned} was pruned from the book`] : []),
      ...(unseen ? [`entry ${unseen} changed records without images: it is not known which, and what they were`] : []),
    ]
  } catch (error) {
    const problem = target.explain(error)
    if (isProblem(problem, 'time-limit'))
      return ['the book is too large to be looked through for what it does not know']
    throw problem
  }
}
