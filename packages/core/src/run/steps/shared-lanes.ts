import { PASSED, refused, type Lane, type Sent } from '../lanes/lane.js'
import { isConnectionError } from '../../sessions/connection-error.js'
import { isLockTimeout } from '../../sessions/database-error.js'
import { isTimeLimit } from '../../sessions/database-words.js'
import type { Session } from '../../sessions/session-pool.js'
import { LockWatch } from '../../sessions/lock-watch.js'
import type { Attempt } from './attempt.js'
import { timeLimit } from './deadline.js'
import type { Found } from './found.js'
import type { PlanRun } from './plan-run.js'
import type { AsOne } from './run-as-one.js'
import { headerOf } from './run-receipt.js'

/** Shares a statement with runs of the same plan that are asked for at the same time (docs/decisions/0013). */
export function together(run: PlanRun, asOne: AsOne): Lane<Found> {
  return {
    name: 'shared',
    send: async () => {
      let watch: LockWatch | undefined
      const onStart = (pid: number) => {
        watch = new LockWatch(run.target, pid, run.lockWaitMs, run.request.onWait)
      }
      try {
        return await outcomeOf(
          run,
          (attempt) => asOne.share(attempt, headerOf(run), run.request.note ?? null, onStart),
          () => watch,
        )
      } finally {
        watch?.end()
      }
    },
  }
}

/** Goes after others of the same plan in one transaction, where they meet at the same rows too often to share (docs/decisions/0014). */
export function inTurn(run: PlanRun, asOne: AsOne): Lane<Found> {
  return {
    name: 'in turn',
    send: () =>
      outcomeOf(
        run,
        (attempt) => asOne.takeTurns(attempt, headerOf(run), run.request.note ?? null),
        () => undefined,
      ),
  }
}

async function outcomeOf(
  run: PlanRun,
  send: (attempt: Attempt) => Promise<(string | null)[][]>,
  watch: () => LockWatch | undefined,
): Promise<Sent<Found>> {
  const attempt = run.newAttempt(NO_SESSION)
  try {
    const rows = await send(attempt)
    return rows.length === 0 ? PASSED : { state: 'committed', found: { by: 'one statement', attempt, rows } }
  } catch (error) {
    if (isConnectionError(error)) return { state: 'in doubt', error }
    if (isLockTimeout(error)) {
      run.waitedFor = watch()?.holders ?? []
      return PASSED
    }
    return refused(isTimeLimit(error) ? timeLimit(run.timeLimitMs, undefined, error) : run.target.explain(error))
  }
}

/** It has none of its own. */
const NO_SESSION: Session = {
  pid: 0,
  query: () => Promise.reject(new Error('A shared run has no session.')),
  release: () => undefined,
  limitTo: () => undefined,
  retire: () => undefined,
  takeUpTo: () => undefined,
  withinBytes: (_most, work) => work(),
  breakOff: () => undefined,
}
