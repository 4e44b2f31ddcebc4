import { LedgermanProblem } from '@ledgerman/contract'
import { isEntryId, noSuchEntry } from '../../book/entry-id.js'
import type { Target } from '../../target/target.js'

/** Which entries are put back together. */
export interface SinceFilter {
  /** An instant (RFC 3339), or the id of the first entry that is put back. */
  since: string
  until?: string | undefined
  mapping?: string | undefined
  transaction?: string | undefined
  actor?: string | undefined
}

/** An instant (RFC 3339, or as PostgreSQL prints it): without its zone it would mean something else elsewhere. */
const INSTANT = /^\d{4}-\d{2}-\d{2}[T ]\d{2}:\d{2}:\d{2}(?:\.\d+)?(?:Z|[+-]\d{2}(?::?\d{2})?)$/i

/** How many entries are put back as one at most. */
const MOST_ENTRIES = 10_000

/**
 * The entries that changed something since then, the newest first.
 *
 * @throws LedgermanProblem not-reversible where there are none; not-found where there is no such entry; too-large; request-invalid
 */
export async function entriesSince(target: Target, filter: SinceFilter): Promise<string[]> {
  const { since, until, mapping, transaction, actor } = filter
  const isEntry = isEntryId(since)
  if (!isEntry && !(INSTANT.test(since) && !Number.isNaN(Date.parse(since))))
    throw new LedgermanProblem(
      'request-invalid',
      `since: expected an instant such as 2026-02-03T21:00:00Z or the id of an entry, got ${since.slice(0, 60)}.`,
      {
        where: 'since',
      },
    )
  const { rows } = await target
    .readBook(ENTRIES_SQL, [
      isEntry ? since : null,
      isEntry ? null : since,
      until ?? null,
      mapping ?? null,
      transaction ?? null,
      actor ?? null,
      String(MOST_ENTRIES + 1),
    ])
    .catch((error: unknown) => {
      throw target.explain(error)
    })
  if (rows.length === 0 && isEntry) await assertEntry(target, since)
  if (rows.length === 0)
    throw new LedgermanProblem('not-reversible', 'Nothing was changed since then that could be put back.', {
      ...filter,
    })
  if (rows.length > MOST_ENTRIES)
    throw new LedgermanProblem(
      'too-large',
      `More than ${MOST_ENTRIES} entries were made since then. Put back a part of them: say until, mapping, transaction or actor.`,
      { limit: MOST_ENTRIES },
    )
  return rows.map(([id]) => id ?? '')
}

/** @throws LedgermanProblem not-found where one of the entries is not in the book: it is not one that changed nothing. */
export async function assertEntry(target: Target, ...ids: readonly string[]): Promise<void> {
  const { rows } = await target
    .readBook('select id from unnest($1::uuid[]) as asked(id) except select id from ledgerman.entry limit 1', [
      `{${ids.join(',')}}`,
    ])
    .catch((error: unknown) => {
      throw target.explain(error)
    })
  const [missing] = rows[0] ?? []
  if (missing) throw noSuchEntry(target, missing)
}

/** How many rows those entries wrote, and the mapping of one of them. */
export async function rowsOfEntries(
  target: Target,
  entries: readonly string[],
): Promise<{ rows: number; mapping: string }> {
  const { rows } = await target
    .readBook(
      `select coalesce(sum(e.changed), 0), max(coalesce(s.mapping, e.run->'writes'->0->>'mapping', (select max(t.mapping) from ledgerman.step p join ledgerman.statement t on t.id = p.statement where p.entry = e.id)))
from ledgerman.entry e left join ledgerman.statement s on s.id = e.statement where e.id = any($1::uuid[]) and e.outcome = 'committed'`,
      [`{${entries.join(',')}}`],
    )
    .catch((error: unknown) => {
      throw target.explain(error)
    })
  const [count, mapping] = rows[0] ?? []
  return { rows: Number(count ?? 0), mapping: mapping ?? '' }
}

const ENTRIES_SQL = `
select e.id from ledgerman.entry e left join ledgerman.statement s on s.id = e.statement
where e.outcome = 'committed' and e.changed > 0 and ($1::uuid is null or (e.at, e.id) >= (select x.at, x.id from ledgerman.entry x where x.id = $1::uuid)) and ($2::timestamptz is null or e.at >= $2::timestamptz)
  and ($3::timestamptz is null or e.at < $3::timestamptz)
  and ($4::text is null or s.mapping = $4 or exists (select 1 from ledgerman.step p join ledgerman.statement t on t.id = p.statement where p.entry = e.id and t.mapping = $4 and p.changed > 0))
  and ($5::text is null or e.run->>'transaction' = $5) and ($6::text is null or e.actor = $6)
order by e.at desc, e.id desc limit $7::integer`
