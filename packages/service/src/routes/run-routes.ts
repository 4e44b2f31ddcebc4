import {
  includesRole,
  isProblem,
  LedgermanProblem,
  LONGEST_TIME_LIMIT_MS,
  receipt,
  runInput,
  runInputShape,
  runState,
  type Json,
  type ProblemCode,
  type Receipt,
  type RunInput,
} from '@ledgerman/contract'
import { confirmRun, resolvePlan, runPlan, type Evidence, type Plan, type Target } from '@ledgerman/core'
import type { z } from 'zod'
import { digestOf } from '../home/rehearsal-store.js'
import type { BegunRun } from '../runs/begun-runs.js'
import { readIdempotencyKey } from '../http/idempotency-key.js'
import { assertNamed } from '../http/limited-token.js'
import { defineRoute, type Call } from '../http/route.js'
import type { Services } from './services.js'

const PROBLEMS: ProblemCode[] = [
  'value-invalid',
  'expression-invalid',
  'definition-invalid',
  'count-required',
  'no-such-record',
  'record-ambiguous',
  'count-mismatch',
  'constraint-broken',
  'row-not-written',
  'book-not-prepared',
  'idempotency-key-reused',
  'idempotency-key-in-use',
  'record-changed',
  'rehearsal-stale',
  'rule-broken',
  'lock-timeout',
  'retries-exhausted',
  'cancelled',
  'time-limit',
  'outcome-unknown',
  'media-type',
  'too-large',
]

export function runRoutes({ targets, rehearsals, begunRuns }: Services) {
  return [
    defineRoute<z.ZodType, RunInput>({
      method: 'post',
      path: '/v1/targets/{target}/runs',
      showsStatements: true,
      role: 'writer',
      looksAtLimits: true,
      summary:
        'Run a transaction, or steps that are sent with the run (raw statements for authors): rehearse it, or commit it.',
      headers: { 'Idempotency-Key': 'A commit that is sent again with the same key takes effect once.' },
      body: { 'application/json': { schema: runInput, shape: runInputShape } },
      replies: {
        200: { description: 'The receipt of a rehearsal, or of a commit that was replayed.', schema: receipt },
        201: { description: 'The receipt of a commit.', schema: receipt, headers: { link: 'The entry in the book.' } },
      },
      problems: PROBLEMS,
      canFollow: true,
      mayChange: true,
      longestMs: LONGEST_TIME_LIMIT_MS + 60_000,
      handle: async (call) => {
        const target = targets.get(call.params['target'] ?? '')
        const { body, caller } = call
        refuseOfCommit(body)
        const plan = await planOf(target, call)
        const { mode, rehearsal, note, confirm, params = {}, ...asked } = body
        // Most runs are neither rehearsed nor sent again, and nobody compares what they ask.
        const subject = () => ({
          ...asked,
          params,
          revision: plan.revision,
          definitions: [...plan.mappings].map(([name, { revision }]) => [name, revision]),
        })
        const { actor } = caller
        const rehearsed =
          rehearsal === undefined
            ? undefined
            : await rehearsals.find<Evidence>(rehearsal, target.name, actor, subject())
        const transaction = plan.name
        let begun: BegunRun | undefined
        const { receipt: told, evidence } = await runPlan(target, plan, {
          mode,
          actor,
          note,
          params: params as Record<string, Json>,
          request: requestOf(call, subject),
          rehearsed,
          signal: call.gone(),
          onBegin: (run) => (begun = begunRuns.begin(target.name, run, { mode, actor, transaction })),
          onWait: (holders) => {
            begun?.waits(holders)
            call.onWait?.(holders)
          },
        }).then(
          (result) => {
            begun?.over(result.receipt)
            return result
          },
          (error: unknown) => {
            begun?.over(isProblem(error) ? (error.facts['receipt'] as Receipt | undefined) : undefined)
            throw error
          },
        )
        const complete = { ...told }
        if (mode === 'rehearse') complete.rehearsal = await rehearsals.keep(target.name, actor, subject(), evidence)
        if (confirm && mode === 'commit')
          await confirmRun(target, plan, told).then(
            (confirmed) => (complete.confirmed = confirmed),
            // It is committed all the same: what could not be looked at is said.
            () =>
              (complete.notShown = [...(complete.notShown ?? []), 'The rows could not be read back to confirm them.']),
          )
        return {
          status: mode === 'commit' && !told.replayed ? 201 : 200,
          body: complete,
          headers: entryLink(complete),
        }
      },
    }),
    defineRoute({
      method: 'get',
      path: '/v1/targets/{target}/runs/{run}',
      showsStatements: true,
      role: 'author',
      summary: 'A run that was begun by this service lately: still going on, or over.',
      replies: { 200: { description: 'How it stands.', schema: runState } },
      problems: ['not-found'],
      handle: ({ params }) =>
        Promise.resolve({
          status: 200,
          body: begunRuns.get(targets.get(params['target'] ?? '').name, params['run'] ?? ''),
        }),
    }),
  ]

  function planOf(target: Target, { body, caller }: Call<unknown, RunInput>): Promise<Plan> {
    if (!('steps' in body)) {
      assertNamed(caller, body.transaction)
      return targets.plan(target, body.transaction, body.revision)
    }
    // What its steps do to mapped records a writer can do one by one as well; a raw statement can do anything.
    if (body.steps.some((step) => 'sql' in step) && !includesRole(caller.role, 'author'))
      throw new LedgermanProblem(
        'forbidden',
        `The token ${caller.actor} has the role ${caller.role}; raw statements that are sent with a run need author. Have a transaction published, and run that.`,
        { role: caller.role, needed: 'author' },
      )
    const { steps, types = {}, params = {}, isolation, lockWait, timeLimit, retry } = body
    const declared = Object.keys({ ...types, ...params }).map((name) => {
      const type = types[name] ?? 'unknown'
      return [name, { nullable: true, ...(typeof type === 'string' ? { type } : type) }]
    })
    const limits = Object.fromEntries(
      Object.entries({ isolation, lockWait, timeLimit, retry }).filter(([, value]) => value !== undefined),
    )
    const definition = { steps, params: Object.fromEntries(declared) as Record<string, { type: string }>, ...limits }
    return resolvePlan(target, definition, null, null, (name) => targets.mappingFor(caller, target, name))
  }
}

/** @throws LedgermanProblem request-invalid for what only a commit can have */
function refuseOfCommit({ mode, rehearsal, confirm }: RunInput): void {
  const where = rehearsal !== undefined ? 'rehearsal' : confirm ? 'confirm' : undefined
  if (mode === 'rehearse' && where !== undefined)
    throw new LedgermanProblem('request-invalid', `${where}: it goes with a commit, not with a rehearsal.`, { where })
}

/** What makes a request the same one again: its key, and all it asks. */
function requestOf({ request, body }: Pick<Call<unknown, RunInput>, 'request' | 'body'>, subject: () => unknown) {
  const key = request.headers['idempotency-key']
  if (key === undefined || body.mode !== 'commit') return undefined
  return {
    key: readIdempotencyKey(key),
    digest: digestOf({ subject: subject(), note: body.note, rehearsal: body.rehearsal }),
  }
}

function entryLink({ entry }: Receipt): Record<string, string> {
  return entry === null ? {} : { link: `<${entry}>; rel="describedby"` }
}
