import type { RecordValues } from '@ledgerman/contract'
import { ROWS_OF_BLOCK_SQL } from '../statement/image-block-sql.js'
import { readThroughCursor } from '../target/read-through-cursor.js'
import type { Target } from '../target/target.js'
import { assertBookPrepared, entryConditions, type EntryFilter } from './entry-filter.js'

const LINES_AT_A_TIME = 1_000

/** What a line of an export of entries has, in order. */
export const EXPORTED_COLUMNS = [
  'entry',
  'at',
  'actor',
  'outcome',
  'problem',
  'transaction',
  'kind',
  'mapping',
  'relation',
  'key',
  'before',
  'after',
  'note',
]

/**
 * Reads entries with their rows, the oldest first: a line for each row that was written, and one for each entry that wrote none. Values are
 * in PostgreSQL's text form under their columns' names, sensitive ones as digests, as the book keeps them.
 *
 * @throws LedgermanProblem book-not-prepared, too-many-requests; and from the batches cancelled, target-unavailable
 */
export async function exportEntries(
  target: Target,
  filter: Omit<EntryFilter, 'limit' | 'after'>,
  signal: AbortSignal,
): Promise<AsyncGenerator<RecordValues[], void, undefined>> {
  await assertBookPrepared(target)
  const { conditions, values } = entryConditions({ ...filter, digestKey: target.digestKey })
  const text = `declare found no scroll cursor for ${LINES_SQL}${conditions.length > 0 ? ` where ${conditions.join(' and ')}` : ''} order by e.id`
  const read = {
    text,
    values,
    atATime: LINES_AT_A_TIME,
    isOfBook: true,
    signal,
    explain: (error: unknown) => target.explain(error),
  }
  return readThroughCursor(target, read, (row) => JSON.parse(row[0] ?? '') as RecordValues)
}

/**
 * By id in its index, so that the first lines come at once whatever the size of the book; what an entry says of itself, and its steps, are
 * read once, in order, and the rows of each come as they are found: an entry that put back thousands says a lot.
 */
const LINES_SQL = `
select pg_catalog.json_build_object('entry', e.id, 'at', pg_catalog.to_char(e.at at time zone 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS.US"Z"'), 'actor', e.actor,
  'outcome', e.outcome, 'problem', e.problem, 'transaction', once.transaction, 'kind', s.kind, 'mapping', nullif(s.mapping, ''),
  'relation', nullif(s.relation, ''), 'key', pg_catalog.jsonb_object(s.key_columns, i.key),
  'before', pg_catalog.jsonb_object(s.touched, i.before), 'after', pg_catalog.jsonb_object(s.touched, i.after), 'note', e.note)::text
from ledgerman.entry e
cross join lateral (select e.run->>'transaction' as transaction offset 0) as once
left join lateral (
  select e.statement, e.key, e.before, e.after where e.run is null
  union all
  select p.statement, o.key, o.before, o.after
  from pg_catalog.json_to_recordset(e.steps) as p(no integer, statement bigint) cross join lateral (
    select m.key, m.before, m.after from ledgerman.image m where m.entry = e.id and m.step = p.no
    union all
    select r.key, r.before, r.after from ledgerman.image_block b cross join lateral ${ROWS_OF_BLOCK_SQL} as r where b.entry = e.id and b.step = p.no
  ) as o
  where e.run is not null
) as i on true
left join ledgerman.statement s on s.id = i.statement`
