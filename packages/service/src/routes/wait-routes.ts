import {
  endSessionInput,
  PREPARED_ENDS,
  LedgermanProblem,
  printJson,
  sessionEnded,
  staged,
  stagedInput,
  waits,
  type Waits,
} from '@ledgerman/contract'
import { endSession, IDLE_LIMIT_MS, listWaits, type Target } from '@ledgerman/core'
import { setTimeout as delay } from 'node:timers/promises'
import { stageDemo } from '../demo/stage-demo.js'
import type { z } from 'zod'
import { defineRoute, type Call } from '../http/route.js'
import type { Services } from './services.js'

const WAITS = '/v1/targets/{target}/waits'
/** How often the target is looked at while somebody watches, in milliseconds at least; all watchers share one look. */
const EVERY_MS = 1_000
/** How old what is shown may be, in milliseconds. */
const OLDEST_MS = 5_000

export function waitRoutes({ home, targets }: Services) {
  const looks = new Map<string, { until: number; look: Promise<Waits> }>()
  const targetOf = ({ params }: Pick<Call, 'params'>) => targets.get(params['target'] ?? '')

  function look(target: Target): Promise<Waits> {
    const known = looks.get(target.name)
    if (known && performance.now() < known.until) return known.look
    let tookMs = 0
    const started = performance.now()
    const listed = listWaits(target).finally(() => (tookMs = performance.now() - started))
    const taken = Promise.all([listed, endedLately(target.name)]).then(([sessions, ended]) => ({
      at: new Date().toISOString(),
      sessions,
      idleLimitMs: IDLE_LIMIT_MS,
      ended,
    }))
    const kept = { until: Infinity, look: taken }
    looks.set(target.name, kept)
    taken.then(
      // So that looking costs the target no more than a hundredth of one processor, unless what is shown would be too old.
      () => (kept.until = performance.now() + Math.min(Math.max(EVERY_MS / 2, tookMs * 100), OLDEST_MS)),
      () => looks.delete(target.name),
    )
    return taken
  }

  async function endedLately(target: string): Promise<Waits['ended']> {
    const rows = await home.query<{
      at: Date
      actor: string
      action: 'cancel' | 'end'
      pid: number
      application: string | null
      user: string | null
    }>(
      `select at, actor, did as action, pid, application, "user" from ledgerman_home.ended_session where target = $1 and at > now() - interval '1 hour' order by at desc limit 20`,
      [target],
    )
    return rows.map((row) => ({ ...row, at: row.at.toISOString() }))
  }

  return [
    defineRoute({
      method: 'get',
      path: WAITS,
      role: 'author',
      summary: 'Who blocks whom, right now.',
      replies: { 200: { description: 'The roots of pile-ups first.', schema: waits } },
      handle: async (call) => ({ status: 200, body: await look(targetOf(call)) }),
    }),
    defineRoute({
      method: 'get',
      path: `${WAITS}/events`,
      role: 'author',
      summary: 'The same as server-sent events, whenever something changes.',
      longestMs: null,
      onlyTells: true,
      replies: { 200: { description: 'Events named waits.', schema: waits, alsoAs: ['text/event-stream'] } },
      handle: (call) => {
        const target = targetOf(call)
        return Promise.resolve({
          status: 200,
          headers: { 'cache-control': 'no-store' },
          stream: { contentType: 'text/event-stream', chunks: events(() => look(target), call.gone()) },
        })
      },
    }),
    ...(['cancel', 'end'] as const).map((action) =>
      defineRoute<z.ZodType, z.output<typeof endSessionInput>>({
        method: 'post',
        path: `${WAITS}/{pid}/${action}`,
        role: 'admin',
        summary: action === 'cancel' ? 'Cancel what a session runs.' : 'End a session.',
        body: { 'application/json': { schema: endSessionInput } },
        replies: { 200: { description: 'Whether the signal was sent.', schema: sessionEnded } },
        problems: ['media-type'],
        handle: async (call) => {
          const target = targetOf(call)
          const pid = Number(call.params['pid'])
          const { startedAt } = call.body
          if (pid < 0)
            throw new LedgermanProblem(
              'request-invalid',
              `pid: a prepared transaction has no session. ${PREPARED_ENDS}`,
              { where: 'pid' },
            )
          if (!Number.isInteger(pid) || pid < 1 || Number.isNaN(Date.parse(startedAt)))
            throw new LedgermanProblem(
              'request-invalid',
              'pid and startedAt: expected those of a session in the list of waits.',
              { where: 'pid' },
            )
          const ended = await endSession(target, pid, startedAt, action)
          if (!ended)
            throw new LedgermanProblem(
              'not-found',
              `There is no session ${pid} that began at ${startedAt} any more: it has ended, or another session has its pid now.`,
              { pid },
            )
          // It has ended, whatever becomes of the record of it: this must not become a refusal. Who asked for it, the log has as well.
          await home
            .query(
              `insert into ledgerman_home.ended_session (target, actor, did, pid, started_at, application, "user") values ($1, $2, $3, $4, $5, $6, $7)`,
              [target.name, call.caller.actor, action, pid, startedAt, ended.application, ended.user],
            )
            .catch(() => undefined)
          looks.delete(target.name)
          return { status: 200, body: { pid, action, done: true } }
        },
      }),
    ),
    defineRoute<z.ZodType, z.output<typeof stagedInput>>({
      method: 'post',
      path: '/v1/targets/{target}/staged',
      role: 'writer',
      summary:
        'On the demo only: stage a held row or table, a forgotten transaction, or a competing edit. It ends on its own.',
      body: { 'application/json': { schema: stagedInput } },
      replies: { 200: { description: 'What was staged.', schema: staged } },
      problems: ['media-type'],
      handle: async (call) => {
        const target = targetOf(call)
        if (!targets.isDemo(target.name))
          throw new LedgermanProblem('target-denied', `${target.name} is not the demo: nothing is staged there.`, {
            target: target.name,
          })
        const told = await stageDemo(target, call.body).catch((error: unknown) => {
          throw target.explain(error)
        })
        looks.delete(target.name)
        return { status: 200, body: told }
      },
    }),
  ]
}

/** Server-sent events (WHATWG HTML, "Server-sent events"): one at once, then one whenever what matters differs. */
async function* events(look: () => Promise<Waits>, gone: AbortSignal): AsyncGenerator<string> {
  let before = ''
  let quiet = 0
  while (!gone.aborted) {
    const now = await look()
    const shape = JSON.stringify(
      now.sessions.map(({ pid, blockedBy, state, isIdleTooLong }) => [pid, blockedBy, state, isIdleTooLong]),
    )
    // While somebody waits, times go on; when nobody does, a comment keeps the connection open.
    if (shape !== before || now.sessions.length > 0) yield `event: waits\ndata: ${printJson(now)}\n\n`
    else if (++quiet % 15 === 0) yield ': nobody waits\n\n'
    before = shape
    await delay(EVERY_MS, undefined, { signal: gone, ref: false }).catch(() => undefined)
  }
}
