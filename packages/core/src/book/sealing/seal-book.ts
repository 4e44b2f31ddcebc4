import { OWN_NAMES } from '../../sessions/session-settings.js'
import { LedgermanProblem, type Seal } from '@ledgerman/contract'
import { GrowingTree, leafHash, whyNotSigned, type SealSigner } from '@ledgerman/seal'
import type { OwnSession } from '../../sessions/own-session.js'
import type { Queryable } from '../../sessions/queryable.js'
import type { Target } from '../../target/target.js'
import { CONTENT_COLUMNS_SQL, EntryContents, type ContentRow } from './entry-content.js'
import { LAST_SEAL_SQL, toKeptSeal, type KeptSeal } from './read-seals.js'
import { IS_STRAY_SQL } from './stray-entries.js'

/** Of all who seal a target's book, one does it at a time. */
const SEAL_LOCK = '4680200'

/** How many entries are read, hashed and given their places at a time. */
const ENTRIES_AT_A_TIME = 5_000
const STATEMENT_LIMIT_MS = 10 * 60_000

/**
 * How long before its transaction an entry's id may have been made, in seconds: a caller stands in line, or tries again. The quick look
 * goes back so far; what is older is found by the thorough one.
 */
const ID_AHEAD_S = 60

/**
 * Puts everything in the book that is not under a seal yet under a new one.
 *
 * @param thorough looks through the whole book, and not only at what is new.
 * @returns the last seal, and how many entries were put under it now.
 * @throws LedgermanProblem book-not-prepared; book-altered where the last seal does not hold; lock-timeout
 */
export async function sealBook(
  target: Target,
  signer: SealSigner,
  { thorough = true }: { thorough?: boolean } = {},
): Promise<{ seal: Seal; added: number }> {
  await target.assertBook()
  const session = await target.openOwnSession(STATEMENT_LIMIT_MS, 'seal', OWN_NAMES)
  try {
    return await sealIn(session, target, signer, thorough)
  } catch (error) {
    throw target.explain(error)
  } finally {
    await session.close()
  }
}

/** The last seal of a target's book; undefined where there is none. @throws LedgermanProblem book-not-prepared */
export async function lastSeal(target: Target): Promise<Seal | undefined> {
  await target.assertBook()
  const { rows } = await target.readBook(LAST_SEAL_SQL).catch((error: unknown) => {
    throw target.explain(error)
  })
  return rows[0] && toKeptSeal(rows[0]).seal
}

async function sealIn(session: OwnSession, target: Target, signer: SealSigner, thorough: boolean) {
  const contents = new EntryContents(session)
  let isThorough = thorough
  let added = 0
  let behind: string | null = null
  for (;;) {
    await session.query('begin')
    let isOver = false
    try {
      await session.query('select pg_catalog.pg_advisory_xact_lock($1::bigint)', [SEAL_LOCK])
      const last = await readLast(session, target, signer)
      // Where there is no seal yet, everything is new.
      isThorough ||= last === undefined
      // Looked up before the entries are: a transaction that begins in between is seen as open, or its entry is found later.
      const open = await readOpen(session)
      const found = await session.query(UNSEALED_SQL, [
        isThorough ? null : (last?.openSince ?? null),
        String(ENTRIES_AT_A_TIME),
        behind,
      ])
      const rows = found.rows
      if (rows.length === 0 && last) {
        await session.query('rollback')
        isOver = true
        return { seal: last.seal, added }
      }
      const seal = await append(session, signer, last, open, rows, await contents.of(rows.map(toContentRow)))
      const { command } = await session.query('commit')
      isOver = true
      if (command !== 'COMMIT') throw new LedgermanProblem('internal', `COMMIT was answered with ${command}.`)
      added += rows.length
      if (rows.length < ENTRIES_AT_A_TIME) return { seal, added }
      // What stands before has been looked at.
      behind = rows.at(-1)?.[0] ?? null
    } finally {
      if (!isOver) await session.query('rollback').catch(() => undefined)
    }
  }
}

/** @throws LedgermanProblem book-altered where nothing can be built on the last seal. */
async function readLast(session: Queryable, target: Target, signer: SealSigner): Promise<KeptSeal | undefined> {
  const { rows } = await session.query(LAST_SEAL_SQL)
  const last = rows[0] && toKeptSeal(rows[0])
  const { rows: behind } = await session.query(
    'select exists (select from ledgerman.leaf l where l.no >= $1::bigint)',
    [String(last?.seal.entries ?? 0)],
  )
  const why =
    behind[0]?.[0] === 't'
      ? 'entries have places behind it that no seal gave them'
      : last && whyNotContinued(last, signer)
  if (why)
    throw new LedgermanProblem(
      'book-altered',
      `The last seal in the book of ${target.name} does not hold: ${why}. Nothing was sealed. See what was altered: ledgerman book verify.`,
      { target: target.name },
    )
  return last
}

function whyNotContinued({ seal, peaks }: KeptSeal, signer: SealSigner): string | null {
  const unsigned = whyNotSigned(seal, signer.publicKey)
  if (unsigned !== null) return unsigned
  try {
    const root = new GrowingTree(seal.entries, peaks).root().toString('hex')
    return root === seal.root ? null : 'its subtrees do not lead to its root'
  } catch {
    return 'it has not the subtrees that a book of its size has'
  }
}

/** When the oldest transaction that is open began, and the number that the next one gets. */
async function readOpen(session: Queryable): Promise<{ since: string; next: string; now: string }> {
  const { rows } = await session.query(
    `select (select coalesce(min(a.xact_start), pg_catalog.clock_timestamp()) from pg_catalog.pg_stat_activity a
  where a.datname = pg_catalog.current_database() and a.pid <> pg_catalog.pg_backend_pid())::text,
  pg_catalog.pg_snapshot_xmax(pg_catalog.pg_current_snapshot())::text, pg_catalog.clock_timestamp()::text`,
  )
  const [since, next, now] = rows[0] ?? []
  return { since: since ?? '', next: next ?? '', now: now ?? '' }
}

/**
 * Entries without a place, in order of their ids. What a seal did not find was written by a transaction that was open then, or begun since:
 * the quick look begins when the oldest of those did ($1).
 */
const UNSEALED_SQL = `
select e.id, ${CONTENT_COLUMNS_SQL}
from ledgerman.entry e
where ($1::timestamptz is null or e.id >= (pg_catalog.lpad(pg_catalog.to_hex(greatest(0, (extract(epoch from $1::timestamptz) * 1000)::bigint - ${ID_AHEAD_S * 1000})), 12, '0') || '00000000000000000000')::uuid)
  and ($3::uuid is null or e.id > $3::uuid) and not exists (select from ledgerman.leaf l where l.entry = e.id) and not ${IS_STRAY_SQL}
order by e.id limit $2::integer`

function toContentRow(row: Row): ContentRow {
  return row.slice(1) as unknown as ContentRow
}

type Row = (string | null)[]

async function append(
  session: Queryable,
  signer: SealSigner,
  last: KeptSeal | undefined,
  open: { since: string; next: string; now: string },
  rows: readonly Row[],
  contents: readonly string[],
): Promise<Seal> {
  const first = last?.seal.entries ?? 0
  const tree = new GrowingTree(first, last?.peaks ?? [])
  const hashes = contents.map((content) => leafHash(content))
  for (const hash of hashes) tree.add(hash)
  const { rows: moment } = await session.query(
    `select pg_catalog.to_char($1::timestamptz at time zone 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS.US"Z"')`,
    [open.now],
  )
  const seal = signer.sign({ entries: tree.size, root: tree.root().toString('hex'), at: moment[0]?.[0] ?? '' })
  const bytes = (hash: Buffer) => `"\\\\x${hash.toString('hex')}"`
  await session.query(
    `insert into ledgerman.leaf (no, entry, hash)
select $1::bigint + given.no - 1, given.entry, given.hash from unnest($2::uuid[], $3::bytea[]) with ordinality as given(entry, hash, no) order by given.no`,
    [String(first), `{${rows.map(([id]) => id).join(',')}}`, `{${hashes.map(bytes).join(',')}}`],
  )
  await session.query(
    `insert into ledgerman.seal (entries, root, at, key, signature, peaks, open_since, next_transaction)
values ($1::bigint, pg_catalog.decode($2, 'hex'), $3::timestamptz, $4, $5, $6::bytea[], $7::timestamptz, $8::bigint)`,
    [
      String(seal.entries),
      seal.root,
      seal.at,
      seal.key,
      seal.signature,
      `{${tree.peaks.map(bytes).join(',')}}`,
      open.since,
      open.next,
    ],
  )
  return seal
}
