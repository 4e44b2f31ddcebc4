import {
  LedgermanProblem,
  receipt,
  reversalInput,
  reversalsInput,
  type ProblemCode,
  type ReversalInput,
  type ReversalsInput,
} from '@ledgerman/contract'
import { entriesSince, reverseEntries, type BulkEvidence, type Target } from '@ledgerman/core'
import type { z } from 'zod'
import { digestOf } from '../home/rehearsal-store.js'
import { defineRoute, type Call, type Reply } from '../http/route.js'
import type { Services } from './services.js'

/** How long a reversal may take, in milliseconds. */
const LONGEST_MS = 15 * 60_000

const PROBLEMS: ProblemCode[] = [
  'not-reversible',
  'reversal-conflict',
  'rehearsal-stale',
  'book-not-prepared',
  'constraint-broken',
  'rule-broken',
  'row-not-written',
  'retries-exhausted',
  'cancelled',
  'outcome-unknown',
  'too-large',
]
const REPLIES = {
  200: { description: 'The receipt of a rehearsal.', schema: receipt },
  201: { description: 'The receipt of a commit, which says what it reverses.', schema: receipt },
}

export function reversalRoutes({ targets, rehearsals }: Services) {
  return [
    defineRoute<z.ZodType, ReversalInput>({
      method: 'post',
      path: '/v1/targets/{target}/entries/{entry}/reversal',
      role: 'writer',
      summary: 'Put an entry back: rehearse it, or commit it. Only rows that are as the entry left them are written.',
      body: { 'application/json': { schema: reversalInput } },
      replies: REPLIES,
      problems: [...PROBLEMS, 'not-found'],
      mayChange: true,
      longestMs: LONGEST_MS,
      handle: async (call) => {
        const target = targets.get(call.params['target'] ?? '')
        const entry = call.params['entry'] ?? ''
        const { rehearsal } = call.body
        if (!UUID.test(entry))
          throw new LedgermanProblem('not-found', `There is no entry ${entry} in the book of ${target.name}.`, {
            entry,
          })
        if (rehearsal !== undefined && call.body.mode === 'rehearse')
          throw new LedgermanProblem('request-invalid', 'rehearsal: a token is given to commit what was rehearsed.', {
            where: 'rehearsal',
          })
        const subject = digestOf(['reversal', entry.toLowerCase(), call.body.onlyUnchanged ?? false])
        const seen =
          rehearsal === undefined
            ? undefined
            : await rehearsals.find<BulkEvidence[]>(rehearsal, target.name, call.caller.actor, subject)
        return reversed(call, target, [entry.toLowerCase()], seen, subject)
      },
    }),
    defineRoute<z.ZodType, ReversalsInput>({
      method: 'post',
      path: '/v1/targets/{target}/reversals',
      role: 'writer',
      summary: 'Put back all since an entry or a moment, the newest first, in one transaction.',
      body: { 'application/json': { schema: reversalsInput } },
      replies: REPLIES,
      problems: PROBLEMS,
      mayChange: true,
      longestMs: LONGEST_MS,
      handle: async (call) => {
        const target = targets.get(call.params['target'] ?? '')
        const { since, until, mapping, transaction, actor } = call.body
        const entries = await entriesSince(target, { since, until, mapping, transaction, actor })
        return reversed(call, target, entries, undefined, undefined)
      },
    }),
  ]

  async function reversed(
    call: Call<unknown, ReversalInput | ReversalsInput>,
    target: Target,
    entries: string[],
    seen: BulkEvidence[] | undefined,
    subject: string | undefined,
  ): Promise<Reply> {
    if (call.request.headers['idempotency-key'] !== undefined)
      throw new LedgermanProblem(
        'request-invalid',
        'Idempotency-Key: a reversal takes none. Sent again, it finds the rows put back already and changes nothing.',
        { where: 'idempotency-key' },
      )
    const { mode, onlyUnchanged = false, note = null } = call.body
    const { actor } = call.caller
    const result = await reverseEntries(
      target,
      entries,
      (name, revision) => targets.findRevision(target, name, revision),
      { mode, actor, note, onlyUnchanged, rehearsed: seen, timeLimitMs: LONGEST_MS, signal: call.gone() },
    )
    const told = { ...result.receipt }
    if (mode === 'rehearse' && subject !== undefined)
      told.rehearsal = await rehearsals.keep(target.name, actor, subject, result.evidence)
    const headers: Record<string, string> = told.entry === null ? {} : { link: `<${told.entry}>; rel="describedby"` }
    return { status: mode === 'commit' ? 201 : 200, body: told, headers }
  }
}

const UUID = /^[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}$/i
