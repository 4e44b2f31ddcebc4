import { LedgermanProblem } from '@ledgerman/contract'
import { bookRun } from '../../book/book-run.js'
import { findRequest, receiptOfRequest } from '../../book/find-replay.js'
import { refused, type Lane, type Sent } from '../lanes/lane.js'
import { isConnectionError } from '../../sessions/connection-error.js'
import { isSerializationFailure } from '../../sessions/database-error.js'
import { isWrite, type Plan } from '../../plan/plan.js'
import { kindsOf } from '../../plan/run-reversibility.js'
import { countWrittenWithIt } from '../record/written-with-it.js'
import { assertSeesTables, refusalOrBlind } from '../../sessions/rewritten-tables.js'
import type { Session } from '../../sessions/session-pool.js'
import type { Turn } from '../../sessions/sharing/turn-queue.js'
import type { Attempt } from './attempt.js'
import { assertSame } from './evidence.js'
import { explainFailure, type FailedAttempt } from './explain-failure.js'
import type { Found } from './found.js'
import type { PlanRun } from './plan-run.js'
import { toRunReceipt } from './run-receipt.js'
import { RunSession } from './run-session.js'

/** How long a refused run waits for what it had sent already, before it is cancelled, in milliseconds. */
const AHEAD_PATIENCE_MS = 20

/** A step at a time, between BEGIN and the end; tried again where PostgreSQL ended it to keep others consistent. */
export function stepByStep(run: PlanRun, turn: Turn): Lane<Found> {
  return {
    name: 'step by step',
    async send() {
      for (;;) {
        const opened = await RunSession.open(run, turn).catch(refused)
        if (!(opened instanceof RunSession)) return opened
        const ended = await attemptIn(opened).finally(() => opened.close())
        // What else is asked is asked in another session: as many as there are may be held by runs that ask.
        if ('before' in ended) return toldBefore(run, ended.before)
        if (!('failed' in ended)) return ended
        if (!isSerializationFailure(ended.error) || run.attempts > run.plan.retry)
          return refused(await explainFailure(opened, ended.failed, ended.error))
        await run.backOff()
      }
    },
  }
}

async function attemptIn(held: RunSession): Promise<Sent<Found> | FailedAttempt | { before: string }> {
  const { run, session } = held
  const attempt = (run.attempt = run.newAttempt(session))
  attempt.sendsAhead = !run.request.hooks
  const progress = { isCommitting: false }
  try {
    const before = await begin(held, attempt)
    if (before !== undefined) {
      await session.query('rollback')
      held.isClean = true
      return { before }
    }
    const found = await runThrough(held, attempt, progress)
    held.isClean = true
    return { state: run.isCommit ? 'committed' : 'rehearsed', found }
  } catch (error) {
    held.watch.end()
    if (isConnectionError(error) && progress.isCommitting) return { state: 'in doubt', error }
    const because = await refusalOrBlind(session, run.plan.isolation, error)
    held.isClean = await rollBack(held, attempt)
    return { failed: attempt, error: because }
  }
}

/** Begins, and holds the request's key; gives the entry of one that took effect before. */
async function begin({ run, session }: RunSession, attempt: Attempt): Promise<string | undefined> {
  const { request, target, isCommit, waitedFor } = run
  await attempt.begin()
  // The whole wait is behind it: what is still locked is refused at once, and it is known in which step.
  if (waitedFor) await session.query(`set local lock_timeout = 1`)
  return isCommit && request.request ? findRequest(target.name, session, request.actor, request.request) : undefined
}

/** What a request came to that took effect before. */
async function toldBefore({ target, plan }: PlanRun, entry: string): Promise<Sent<Found>> {
  try {
    const receipt = await receiptOfRequest(target, plan, entry)
    return { state: 'committed', found: { by: 'a request before', receipt: { ...receipt, replayed: true } } }
  } catch (error) {
    return refused(target.explain(error))
  }
}

async function runThrough(
  { run, session }: RunSession,
  attempt: Attempt,
  progress: { isCommitting: boolean },
): Promise<Found> {
  const { plan, request, isCommit } = run
  const { hooks } = request
  const count = isCommit ? undefined : await countBeside(session, plan)
  for (const step of plan.steps) {
    attempt.current = step
    await hooks?.beforeStep?.(step.no, session)
    await attempt.runStep(step)
    await hooks?.afterStep?.(step.no, session)
  }
  await assertSeesTables(session, plan.isolation)
  if (request.rehearsed) assertSame(request.rehearsed, attempt.evidence)
  if (isCommit) {
    attempt.statement = null
    await bookRun(session, plan, toRunReceipt(run, 'committed', attempt), request.request)
    await hooks?.beforeCommit?.(session)
    progress.isCommitting = true
    const { command } = await (hooks?.commit?.(session) ?? session.query('commit'))
    // COMMIT of a failed transaction succeeds as a ROLLBACK; only the command tag tells.
    if (command !== 'COMMIT') throw new LedgermanProblem('internal', `COMMIT was answered with ${command}.`)
  } else {
    await session.query('set constraints all immediate')
    attempt.writtenWithIt = (await count?.()) ?? null
    await session.query('rollback')
  }
  return { by: 'steps', attempt }
}

/** Not beside raw statements, which write anywhere themselves. */
function countBeside(session: Session, { steps }: Plan): ReturnType<typeof countWrittenWithIt> {
  if (steps.some((step) => step.kind === 'sql' && step.writes)) return Promise.resolve(undefined)
  const writes = steps.filter(isWrite)
  return countWrittenWithIt(
    session,
    writes.flatMap((step) => kindsOf(step).map((kind) => ({ mapping: step.mapping, kind, set: step.set }))),
  )
}

/** Whether the session is as it was before. What was sent ahead may wait for a lock that nobody needs any more: it is cancelled. */
async function rollBack(held: RunSession, attempt: Attempt): Promise<boolean> {
  // A cancel may come late: the session is not used again.
  const isOver = await attempt.isAheadOver(AHEAD_PATIENCE_MS)
  if (!isOver) await held.run.target.giveUp(held.session)
  return (await held.rollBack()) && isOver
}
