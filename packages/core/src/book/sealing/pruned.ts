import type { Queryable } from '../../sessions/queryable.js'

/** Up to which id entries were pruned, and how many; every pruning stands in the book as an entry of its own. */
export async function prunedBefore(session: Queryable): Promise<{ before: string | null; entries: number }> {
  const { rows } = await session.query(
    `select max(e.run->'pruned'->>'before'), coalesce(sum((e.run->'pruned'->>'entries')::bigint), 0)
from ledgerman.entry e where e.run ? 'pruned' and e.outcome = 'committed'`,
  )
  const [before, entries] = rows[0] ?? []
  return { before: before ?? null, entries: Number(entries ?? 0) }
}
