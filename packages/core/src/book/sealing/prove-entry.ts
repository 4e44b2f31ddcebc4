import { OWN_NAMES } from '../../sessions/session-settings.js'
import { LedgermanProblem, type EntryProof, type Seal } from '@ledgerman/contract'
import { leafHash, PathGatherer, rootOfPath } from '@ledgerman/seal'
import { noSuchEntry } from '../entry-id.js'
import type { OwnSession } from '../../sessions/own-session.js'
import type { Target } from '../../target/target.js'
import { CONTENT_COLUMNS_SQL, EntryContents, type ContentRow } from './entry-content.js'

const STATEMENT_LIMIT_MS = 5 * 60_000
const PLACES_AT_A_TIME = 20_000

/**
 * Puts together what shows that an entry is under a seal. Reads the hash of every place once.
 *
 * @throws LedgermanProblem not-found where there is no such entry, or it is not under that seal; book-altered where it cannot be shown
 */
export async function proveEntry(target: Target, id: string, seal: Seal): Promise<EntryProof> {
  const session = await target.openOwnSession(STATEMENT_LIMIT_MS, 'proof', {
    ...OWN_NAMES,
    default_transaction_read_only: 'on',
  })
  try {
    await session.query('begin isolation level repeatable read, read only')
    return await proveIn(session, target, id, seal)
  } catch (error) {
    throw target.explain(error)
  } finally {
    await session.close()
  }
}

async function proveIn(session: OwnSession, target: Target, id: string, seal: Seal): Promise<EntryProof> {
  const { rows } = await session.query(
    `select l.no, pg_catalog.encode(l.hash, 'hex'), ${CONTENT_COLUMNS_SQL}
from ledgerman.entry e left join ledgerman.leaf l on l.entry = e.id where e.id = $1::uuid`,
    [id],
  )
  const [row] = rows
  if (!row) throw noSuchEntry(target, id)
  const [no, leaf, ...content] = row
  const index = Number(no)
  if (no === null || index >= seal.entries)
    throw new LedgermanProblem('not-found', `The entry ${id} is not under a seal of ${target.name}.`, { entry: id })
  const [text = ''] = await new EntryContents(session).of([content as unknown as ContentRow])
  const gatherer = new PathGatherer(index, seal.entries)
  for (let from = 0; from < seal.entries; from += PLACES_AT_A_TIME) {
    const { rows: places } = await session.query(
      `select pg_catalog.encode(l.hash, 'hex') from ledgerman.leaf l where l.no >= $1::bigint and l.no < $2::bigint order by l.no`,
      [String(from), String(Math.min(seal.entries, from + PLACES_AT_A_TIME))],
    )
    for (const [hash] of places) gatherer.add(Buffer.from(hash ?? '', 'hex'))
  }
  const path = gatherer.path()
  const isWhole =
    leafHash(text).toString('hex') === leaf &&
    rootOfPath(Buffer.from(leaf, 'hex'), index, seal.entries, path)?.toString('hex') === seal.root
  if (!isWhole)
    throw new LedgermanProblem(
      'book-altered',
      `The entry ${id} cannot be shown to be under the seal: it, or the book around it, is not what was sealed. See what: ledgerman book verify.`,
      { entry: id },
    )
  return {
    entry: JSON.parse(text) as Record<string, unknown>,
    leaf: leaf ?? '',
    index,
    path: path.map((hash) => hash.toString('hex')),
    seal,
  }
}
