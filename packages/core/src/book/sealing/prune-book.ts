import { OWN_NAMES } from '../../sessions/session-settings.js'
import { entryAddress, LedgermanProblem, type Pruning, type RunMode } from '@ledgerman/contract'
import type { SealSigner } from '@ledgerman/seal'
import { newEntryId } from '../entry-id.js'
import { commitSettled } from '../settle.js'
import { callerGone } from '../../target/reader.js'
import type { Target } from '../../target/target.js'
import { sealBook } from './seal-book.js'

const STATEMENT_LIMIT_MS = 60 * 60_000

export interface PruneRequest {
  mode: RunMode
  /** An instant (RFC 3339): entries from before it are removed. */
  before: string
  actor: string
  note: string | null
  signal: AbortSignal
}

/**
 * Removes old entries with their images. Their places in the tree stay, so that seals go on holding; and that they were pruned is an entry of
 * the book itself, without which verification would miss them. What no seal covers, and what was pruned before, is left.
 *
 * @throws LedgermanProblem book-not-prepared, book-altered, request-invalid, cancelled
 */
export async function pruneBook(
  target: Target,
  signer: SealSigner,
  { mode, before, actor, note, signal }: PruneRequest,
): Promise<Pruning> {
  if (Date.parse(before) > Date.now())
    throw new LedgermanProblem('request-invalid', `before: ${before} is yet to come.`, { where: 'before' })
  await sealBook(target, signer)
  const session = await target.openOwnSession(STATEMENT_LIMIT_MS, 'pruning', OWN_NAMES)
  const onAbort = () => void target.giveUp(session)
  signal.addEventListener('abort', onAbort, { once: true })
  const startedAt = new Date().toISOString()
  const bound = firstIdOf(Date.parse(before))
  let isOver = false
  try {
    if (signal.aborted) throw callerGone(signal.reason)
    await session.query('begin')
    const { rows } = await session.query(mode === 'commit' ? PRUNE_SQL : COUNT_SQL, [bound])
    const [entries = 0, images = 0] = (rows[0] ?? []).map(Number)
    const left = Number((await session.query(LEFT_SQL, [bound])).rows[0]?.[0] ?? 0)
    if (mode === 'rehearse' || entries === 0) return { mode, before, entries, images, left, entry: null }
    const id = newEntryId()
    const run = {
      transaction: null,
      revision: null,
      isolation: 'read committed',
      attempts: 1,
      durationMs: null,
      startedAt,
      reversible: 'no',
      writes: [],
      pruned: { before: bound, at: before, entries, images },
    }
    await session.query(
      `insert into ledgerman.entry (id, actor, outcome, note, matched, changed, run, steps) values ($1::uuid, $2, 'committed', $3, 0, 0, $4::jsonb, '[]')`,
      [id, actor, note, JSON.stringify(run)],
    )
    isOver = true
    await commitSettled(target, session, { id, actor, note })
    return { mode, before, entries, images, left, entry: entryAddress(target.name, id) }
  } catch (error) {
    throw target.explain(error)
  } finally {
    signal.removeEventListener('abort', onAbort)
    if (!isOver) await session.query('rollback').catch(() => undefined)
    await session.close()
  }
}

/** The smallest UUID of version 7 of that millisecond (RFC 9562, section 5.7). */
function firstIdOf(ms: number): string {
  const time = Math.max(0, ms).toString(16).padStart(12, '0')
  return `${time.slice(0, 8)}-${time.slice(8)}-7000-8000-000000000000`
}

/** Sealed entries from before: not those that say what was pruned. */
const OLD_SQL = `select e.id from ledgerman.entry e join ledgerman.leaf l on l.entry = e.id
where e.id < $1::uuid and not coalesce(e.run ? 'pruned', false)`

const IMAGES_SQL = (from: string) => `(select pg_catalog.count(*) from ${from} m where m.entry in (select id from old))`

const COUNT_SQL = `with old as materialized (${OLD_SQL})
select (select pg_catalog.count(*) from old), ${IMAGES_SQL('ledgerman.image')} + (select coalesce(sum(b.rows), 0) from ledgerman.image_block b where b.entry in (select id from old))`

const PRUNE_SQL = `with old as materialized (${OLD_SQL}),
entries as (delete from ledgerman.entry e using old where e.id = old.id returning e.id),
images as (delete from ledgerman.image m using old where m.entry = old.id returning 1),
blocks as (delete from ledgerman.image_block b using old where b.entry = old.id returning b.rows)
select (select pg_catalog.count(*) from entries), (select pg_catalog.count(*) from images) + (select coalesce(sum(rows), 0) from blocks)`

const LEFT_SQL = `select pg_catalog.count(*) from ledgerman.entry e
where e.id < $1::uuid and not coalesce(e.run ? 'pruned', false) and not exists (select from ledgerman.leaf l where l.entry = e.id)`
