import { OWN_NAMES } from '../sessions/session-settings.js'
import type { BookSizes } from '@ledgerman/contract'
import type { Target } from '../target/target.js'

const STATEMENT_LIMIT_MS = 10 * 60_000

/**
 * What the book holds by mapping and month, and the room it takes as it is stored, in bytes, without indexes. Reads the whole book.
 *
 * @throws LedgermanProblem book-not-prepared, cancelled, target-unavailable
 */
export async function bookSizes(target: Target, signal: AbortSignal): Promise<BookSizes> {
  const session = await target.openOwnSession(STATEMENT_LIMIT_MS, 'sizes', {
    ...OWN_NAMES,
    default_transaction_read_only: 'on',
  })
  const onAbort = () => void target.giveUp(session)
  signal.addEventListener('abort', onAbort, { once: true })
  try {
    const { rows } = await session.query(SIZES_SQL)
    const { rows: total } = await session.query(TOTAL_SQL)
    return {
      sizes: rows.map(([month, mapping, entries, images, bytes]) => ({
        month: month ?? '',
        mapping: mapping === '' ? null : (mapping ?? null),
        entries: Number(entries),
        images: Number(images),
        bytes: Number(bytes),
      })),
      totalBytes: Number(total[0]?.[0] ?? 0),
    }
  } catch (error) {
    throw target.explain(error)
  } finally {
    signal.removeEventListener('abort', onAbort)
    await session.close()
  }
}

/** An entry counts for the mapping of its first statement; an image for that of its own. The steps of each entry are read once. */
const SIZES_SQL = `
with step as materialized (
  select entry, no, statement from ledgerman.step
), part as (
  select e.at, coalesce(e.statement, (e.steps->0->>'statement')::bigint) as statement, 1 as entries, 0::bigint as images, pg_catalog.pg_column_size(e.*) as bytes
  from ledgerman.entry e
  union all
  select e.at, p.statement, 0, 1, pg_catalog.pg_column_size(m.*)
  from ledgerman.image m join ledgerman.entry e on e.id = m.entry left join step p on p.entry = m.entry and p.no = m.step
  union all
  select e.at, p.statement, 0, b.rows, pg_catalog.pg_column_size(b.*)
  from ledgerman.image_block b join ledgerman.entry e on e.id = b.entry left join step p on p.entry = b.entry and p.no = b.step
)
select pg_catalog.to_char(pg_catalog.date_trunc('month', part.at at time zone 'UTC'), 'YYYY-MM') as month, coalesce(s.mapping, '') as mapping,
  sum(part.entries), sum(part.images), sum(part.bytes)
from part left join ledgerman.statement s on s.id = part.statement
group by 1, 2 order by 1 desc, 5 desc, 2`

/** Of the whole schema, with indexes. */
const TOTAL_SQL = `select coalesce(sum(pg_catalog.pg_total_relation_size(c.oid)), 0) from pg_catalog.pg_class c
where c.relnamespace = 'ledgerman'::regnamespace and c.relkind = 'r'`
