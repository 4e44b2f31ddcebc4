import { LedgermanProblem, type Receipt } from '@ledgerman/contract'
import type { Mapping } from '../mapping/mapping.js'
import type { Queryable } from '../sessions/queryable.js'
import type { Target } from '../target/target.js'
import type { BookedRequest } from './book-run.js'
import type { Plan } from '../plan/plan.js'
import { getEntry } from './read-entries.js'

/** Looks whether a request on one record took effect already. @throws LedgermanProblem idempotency-key-reused, idempotency-key-in-use */
export async function findReplay(
  target: Target,
  mapping: Mapping,
  actor: string,
  request: BookedRequest,
): Promise<Receipt | undefined> {
  try {
    const entry = await findRequest(target.name, target, actor, request)
    return entry === undefined
      ? undefined
      : await receiptOfRequest(target, { mappings: new Map([[mapping.name, mapping]]) }, entry)
  } catch (error) {
    throw target.explain(error)
  }
}

/** The receipt of the first time. It is read in a session of its own: whoever has one in a transaction gives that back before. */
export async function receiptOfRequest(
  target: Target,
  { mappings }: Pick<Plan, 'mappings'>,
  entry: string,
): Promise<Receipt> {
  return (await getEntry(target, entry, (name) => Promise.resolve(mappings.get(name)))).receipt
}

/**
 * Looks whether a request took effect already, and holds its key for as long as the transaction lasts.
 *
 * @returns the entry of the first time, where there was one.
 * @throws LedgermanProblem idempotency-key-reused where the key came with another request; idempotency-key-in-use where the first still runs.
 */
export async function findRequest(
  targetName: string,
  session: Queryable,
  actor: string,
  { key, digest }: BookedRequest,
): Promise<string | undefined> {
  const { rows } = await session.query(
    'select pg_catalog.pg_try_advisory_xact_lock(pg_catalog.hashtextextended($1, 4680)), (select id from ledgerman.entry where actor = $2 and request_key = $3), (select request_digest from ledgerman.entry where actor = $2 and request_key = $3)',
    [JSON.stringify([targetName, actor, key]), actor, key],
    'lm_request',
  )
  const [isFree, id, known] = rows[0] ?? []
  if (id && known !== digest)
    throw new LedgermanProblem(
      'idempotency-key-reused',
      'This Idempotency-Key came with another request before. Give each request a key of its own.',
      { key, entry: id },
    )
  if (id) return id
  if (isFree !== 't')
    throw new LedgermanProblem(
      'idempotency-key-in-use',
      'The first request with this Idempotency-Key is still running. Ask again when it is done.',
      { key },
    )
  return undefined
}
