import {
  job,
  LedgermanProblem,
  receipt,
  reversalInput,
  reversalsInput,
  type ProblemCode,
  type ReversalInput,
  type ReversalsInput,
} from '@ledgerman/contract'
import {
  entriesSince,
  isEntryId,
  newEntryId,
  noSuchEntry,
  reverseEntries,
  rowsOfEntries,
  type BulkEvidence,
  type Target,
} from '@ledgerman/core'
import type { z } from 'zod'
import { digestOf } from '../home/rehearsal-store.js'
import { defineRoute, type Call, type Reply } from '../http/route.js'
import type { Services } from './services.js'

/** How long a reversal may take, in milliseconds. */
const LONGEST_MS = 15 * 60_000

/** From so many rows on it is a job: whoever asks need not wait for it, and a service that is gone does not end it. */
const JOB_FROM_ROWS = 50_000
/** The same of entries: each is a step of its own. */
const JOB_FROM_ENTRIES = 500

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
  202: { description: 'Of many rows: the job that does it.', schema: job, headers: { location: 'The job.' } },
}

export function reversalRoutes({ targets, rehearsals, jobs, runner }: Services) {
  return [
    defineRoute<z.ZodType, ReversalInput>({
      method: 'post',
      path: '/v1/targets/{target}/entries/{entry}/reversal',
      showsStatements: true,
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
        if (!isEntryId(entry)) throw noSuchEntry(target, entry)
        return reversed(call, target, [entry.toLowerCase()])
      },
    }),
    defineRoute<z.ZodType, ReversalsInput>({
      method: 'post',
      path: '/v1/targets/{target}/reversals',
      showsStatements: true,
      role: 'writer',
      summary: 'Put back all since an entry or a moment, the newest first, in one transaction.',
      body: { 'application/json': { schema: reversalsInput } },
      replies: REPLIES,
      problems: [...PROBLEMS, 'not-found'],
      mayChange: true,
      longestMs: LONGEST_MS,
      handle: async (call) => {
        const target = targets.get(call.params['target'] ?? '')
        const { since, until, mapping, transaction, actor } = call.body
        const entries = await entriesSince(target, { since, until, mapping, transaction, actor })
        return reversed(call, target, entries)
      },
    }),
  ]

  async function reversed(
    call: Call<unknown, ReversalInput | ReversalsInput>,
    target: Target,
    entries: string[],
  ): Promise<Reply> {
    if (call.request.headers['idempotency-key'] !== undefined)
      throw new LedgermanProblem(
        'request-invalid',
        'Idempotency-Key: a reversal takes none. Sent again, it finds the rows put back already and changes nothing.',
        { where: 'idempotency-key' },
      )
    const { mode, onlyUnchanged = false, note = null, rehearsal } = call.body
    const { actor } = call.caller
    if (rehearsal !== undefined && mode === 'rehearse')
      throw new LedgermanProblem('request-invalid', 'rehearsal: a token is given to commit what was rehearsed.', {
        where: 'rehearsal',
      })
    const subject = digestOf(['reversal', entries, onlyUnchanged])
    const seen =
      rehearsal === undefined
        ? undefined
        : await rehearsals.find<BulkEvidence[]>(rehearsal, target.name, actor, subject)
    const { rows, mapping } = await rowsOfEntries(target, entries)
    if (rows >= JOB_FROM_ROWS || entries.length >= JOB_FROM_ENTRIES) {
      const { job: begun } = await jobs.add({
        id: newEntryId(),
        target: target.name,
        mapping,
        revision: 0,
        mode,
        actor,
        note,
        condition: entries.length === 1 ? `entry ${entries[0]}` : `${entries.length} entries`,
        rows,
        request: { kind: 'reversal', entries, onlyUnchanged, rehearsed: seen ?? null, subject },
      })
      runner.look()
      return { status: 202, body: begun, headers: { location: `/v1/jobs/${begun.id}` } }
    }
    const result = await reverseEntries(
      target,
      entries,
      (name, revision) => targets.findRevision(target, name, revision),
      { mode, actor, note, onlyUnchanged, rehearsed: seen, timeLimitMs: LONGEST_MS, signal: call.gone() },
    )
    const told = { ...result.receipt }
    if (mode === 'rehearse') told.rehearsal = await rehearsals.keep(target.name, actor, subject, result.evidence)
    const headers: Record<string, string> = told.entry === null ? {} : { link: `<${told.entry}>; rel="describedby"` }
    return { status: mode === 'commit' ? 201 : 200, body: told, headers }
  }
}
