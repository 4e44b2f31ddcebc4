import { LedgermanProblem, type Receipt } from '@ledgerman/contract'
import type { Mapping } from '../mapping/mapping.js'
import type { Queryable } from '../sessions/queryable.js'
import type { Target } from '../target/target.js'
import type { BookedRequest } from './book-run.js'
import type { Plan } from '../plan/plan.js'
import { getEntry } from './read-entries.js'

/** Looks whether a request on one record took effect already. @throws LedgermanProblem idempotency-key-reused, idempotency-key-in-use */
export function findReplay(
  target: Target,
  mapping: Mapping,
  actor: string,
  request: BookedRequest,
): Promise<Receipt | undefined> {
  return findRequest(target, target, { mappings: new Map([[mapping.name, mapping]]) }, actor, request).catch(
    (error: unknown) => {
      throw target.explain(error)
    },
  )
}

/**
 * Looks whether a request took effect already, and holds its key for as long as the transaction lasts.
 *
 * @returns the receipt of the first time, where there was one.
 * @throws LedgermanProblem idempotency-key-reused where the key came with another request; idempotency-key-in-use where the first still runs.
 */
export async function findRequest(
  target: Target,
  session: Queryable,
  plan: Pick<Plan, 'mappings'>,
  actor: string,
  { key, digest }: BookedRequest,
): Promise<Receipt | undefined> {
  const { rows } = await session.query(
    'select pg_catalog.pg_try_advisory_xact_lock(pg_catalog.hashtextextended($1, 4680)), (select id from ledgerman.entry where actor = $2 and request_key = $3), (select request_digest from ledgerman.entry where actor = $2 and request_key = $3)',
    [JSON.stringify([target.name, actor, key]), actor, key],
    'lm_request',
  )
  const [isFree, id, known] = rows[0] ?? []
  if (id && known !== digest)
    throw new LedgermanProblem(
      'idempotency-key-reused',
      'This Idempotency-Key came with another request before. Give each request a key of its own.',
      { key, entry: id },
    )
  if (id) return (await getEntry(target, id, (name) => Promise.resolve(plan.mappings.get(name)))).receipt
  if (isFree !== 't')
    throw new LedgermanProblem(
      'idempotency-key-in-use',
      'The first request with this Idempotency-Key is still running. Ask again when it is done.',
      { key },
    )
  return undefined
}
