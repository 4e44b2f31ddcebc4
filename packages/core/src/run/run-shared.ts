import type { LockHolder, Receipt } from '@ledgerman/contract'
import { settle } from '../book/settle.js'
import type { Plan } from '../plan/plan.js'
import { isConnectionError } from '../sessions/connection-error.js'
import { isLockTimeout, isTimeLimit } from '../sessions/database-error.js'
import type { Session } from '../sessions/session-pool.js'
import type { Target } from '../target/target.js'
import { LockWatch } from '../waits/lock-watch.js'
import { Attempt } from './attempt.js'
import { timeLimit } from './deadline.js'
import type { AsOne } from './run-as-one.js'
import type { RunRequest } from './run-request.js'
import { bookedReceipt, headerOf, lostCommit, toldReceipt, type RunClock } from './run-receipt.js'

/** How a run went that was asked for together with others; nothing of it where it has to be run alone. */
interface SharedOutcome {
  receipt?: Receipt
  problem?: unknown
  /** Who held a lock that was not granted in time. */
  waitedFor?: readonly LockHolder[]
}

/** Runs a plan together with others of it that are asked for at the same time (docs/decisions/0013, 0014). */
export async function runShared(
  target: Target,
  plan: Plan,
  request: RunRequest,
  params: ReadonlyMap<string, string | null>,
  run: RunClock,
  asOne: AsOne,
): Promise<SharedOutcome> {
  const { actor, note = null } = request
  const state = { entry: run.id, actor, params, given: request.params, loaded: new Map(), outcomes: new Map() }
  const attempt = new Attempt(target, plan, state, NO_SESSION, true, false, new Map())
  const lockWaitMs = plan.lockWaitMs ?? target.limits.lockWaitMs
  let watch: LockWatch | undefined
  try {
    const header = headerOf(plan, request, run, 1)
    let rows = await asOne.share(attempt, header, note, (pid) => {
      watch = new LockWatch(target, pid, lockWaitMs, request.onWait)
    })
    watch?.end()
    if (rows.length === 0) rows = await asOne.takeTurns(attempt, header, note)
    if (rows.length === 0) return {}
    return { receipt: await toldReceipt(target, plan, request, run, 1, attempt, rows) }
  } catch (error) {
    if (isConnectionError(error))
      return settle(target, lostCommit(run, request), error).then(
        async () => ({ receipt: await bookedReceipt(target, plan, request, run) }),
        (problem: unknown) => ({ problem }),
      )
    if (isLockTimeout(error)) return { waitedFor: watch?.holders ?? [] }
    if (isTimeLimit(error))
      return { problem: timeLimit(plan.timeLimitMs ?? target.limits.timeLimitMs, undefined, error) }
    return { problem: target.explain(error) }
  } finally {
    watch?.end()
  }
}

/** It has none of its own. */
const NO_SESSION: Session = {
  pid: 0,
  query: () => Promise.reject(new Error('A shared run has no session.')),
  release: () => undefined,
  limitTo: () => undefined,
  retire: () => undefined,
  withinBytes: (_most, work) => work(),
  breakOff: () => undefined,
}
