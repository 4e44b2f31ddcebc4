import { isProblem, LedgermanProblem, type Receipt, type RecordValues } from '@ledgerman/contract'
import {
  findReplay,
  loadRecord,
  parseKeyParts,
  type BookedRequest,
  type GuardCondition,
  type KeyedResult,
  type KeyTexts,
  type Mapping,
  type Target,
} from '@ledgerman/core'
import { digestOf, type RehearsalStore } from '../home/rehearsal-store.js'
import { readIdempotencyKey } from '../http/idempotency-key.js'
import type { Call } from '../http/route.js'

/** What a rehearsal of one record saw of it. */
interface SeenRecord {
  guard: string | null
  before: RecordValues | null
}

interface WriteQuery {
  mode: 'rehearse' | 'commit'
  rehearsal?: string | undefined
}

/**
 * Everything a write of one record asks: a repetition, or the commit of a rehearsal, has to ask the same. The state that the record is to be
 * in is no part of that: whoever asks again, not knowing what became of it, may have loaded the record as that left it.
 */
function subjectOf({ request, text }: Pick<Call, 'request' | 'text'>): unknown {
  const [path = ''] = request.originalUrl.split('?')
  // The last place held the guard once: without it what books know already would be another request.
  return [request.method, path, text, null]
}

/** The request as the book knows it again, where it carries an Idempotency-Key and is to be kept. */
export function bookedRequest(call: Call<WriteQuery>): BookedRequest | undefined {
  const key = call.request.headers['idempotency-key']
  if (key === undefined || call.query.mode !== 'commit') return undefined
  return { key: readIdempotencyKey(key), digest: digestOf(subjectOf(call)) }
}

/** What came of the same request before, with the record as it is now; undefined where it is new. */
export async function replayed(
  target: Target,
  mapping: Mapping,
  key: KeyTexts | null,
  actor: string,
  request: BookedRequest | undefined,
): Promise<KeyedResult | undefined> {
  const receipt = request && (await findReplay(target, mapping, actor, request))
  if (!receipt) return undefined
  const row = receipt.steps[0]?.rows[0]
  const found =
    key ??
    parseKeyParts(
      mapping,
      mapping.key.map(({ name }) => String(row?.key[name] ?? '')),
    )
  const now = await loadRecord(target, mapping, found).catch((error: unknown) => {
    if (isProblem(error, 'no-such-record')) return { record: row?.after ?? {}, guard: null }
    throw error
  })
  return { ...now, receipt: { ...receipt, replayed: true } }
}

/** Keeps what a rehearsal saw, so that exactly that can be committed. */
export async function withToken(
  rehearsals: RehearsalStore,
  call: Call<WriteQuery>,
  target: Target,
  result: KeyedResult,
): Promise<KeyedResult> {
  if (call.query.mode !== 'rehearse') return result
  const seen: SeenRecord = { guard: result.guard, before: result.receipt.steps[0]?.rows[0]?.before ?? null }
  const rehearsal = await rehearsals.keep(target.name, call.caller.actor, subjectOf(call), seen)
  return { ...result, receipt: { ...result.receipt, rehearsal } }
}

/** The condition under which a record is still as a rehearsal saw it; undefined where no token was sent. */
export async function rehearsedCondition(
  rehearsals: RehearsalStore,
  call: Call<WriteQuery>,
  target: Target,
  mapping: Mapping,
): Promise<{ guard: GuardCondition; loaded?: RecordValues } | undefined> {
  const { rehearsal, mode } = call.query
  if (rehearsal === undefined || mode !== 'commit') return undefined
  const seen = await rehearsals.find<SeenRecord>(rehearsal, target.name, call.caller.actor, subjectOf(call))
  if (seen.guard !== null) return { guard: { guards: [seen.guard] } }
  const open = Object.entries(seen.before ?? {}).filter(([name]) => !mapping.byName.get(name)?.sensitive)
  return { guard: 'any', loaded: Object.fromEntries(open) }
}

/** A record that is not as its rehearsal saw it makes the rehearsal stale. */
export function asStale(error: unknown, isRehearsed: boolean): unknown {
  if (!isRehearsed || !isProblem(error, 'record-changed', 'no-such-record')) return error
  const { receipt, key, theirs, current, guard } = error.facts as Record<string, unknown> & { receipt?: Receipt }
  return new LedgermanProblem(
    'rehearsal-stale',
    `What was rehearsed is no longer what would be committed: ${error.detail} Rehearse again.`,
    { differs: [{ step: 1, key, what: error.detail, theirs, current }], guard, receipt },
    { cause: error },
  )
}
