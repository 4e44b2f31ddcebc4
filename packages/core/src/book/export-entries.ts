import type { RecordValues } from '@ledgerman/contract'
import { placeOfBlockSql } from '../statement/image-block-sql.js'
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
  const { conditions, values } = entryConditions(filter)
  const text = `declare found no scroll cursor for ${LINES_SQL}${conditions.length > 0 ? ` where ${conditions.join(' and ')}` : ''} order by e.id, i.step`
  const read = { text, values, atATime: LINES_AT_A_TIME, signal, explain: (error: unknown) => target.explain(error) }
  return readThroughCursor(target, read, (row) => JSON.parse(row[0] ?? '') as RecordValues)
}

/** By id in its index, so that the first lines come at once whatever the size of the book. */
const LINES_SQL = `
select pg_catalog.json_build_object('entry', e.id, 'at', pg_catalog.to_char(e.at at time zone 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS.US"Z"'), 'actor', e.actor,
  'outcome', e.outcome, 'problem', e.problem, 'transaction', e.run->>'transaction', 'kind', s.kind, 'mapping', nullif(s.mapping, ''),
  'relation', nullif(s.relation, ''), 'key', pg_catalog.jsonb_object(s.key_columns, i.key),
  'before', pg_catalog.jsonb_object(s.touched, i.before), 'after', pg_catalog.jsonb_object(s.touched, i.after), 'note', e.note)::text
from ledgerman.entry e
left join lateral (
  select 0 as step, e.statement, e.key, e.before, e.after where e.run is null
  union all
  select m.step, (e.steps->(m.step - 1)->>'statement')::bigint, m.key, m.before, m.after from ledgerman.image m where m.entry = e.id
  union all
  select b.step, (e.steps->(b.step - 1)->>'statement')::bigint, ${placeOfBlockSql('key')}, ${placeOfBlockSql('before')}, ${placeOfBlockSql('after')}
  from ledgerman.image_block b cross join lateral pg_catalog.generate_series(1, b.rows) as i(at) where b.entry = e.id
) as i on true
left join ledgerman.statement s on s.id = i.statement`
