import { refused, type Lane, type Sent } from '../lanes/lane.js'
import { isConnectionError } from '../../sessions/connection-error.js'
import { isLockTimeout, isSerializationFailure, isStalePlan } from '../../sessions/database-error.js'
import type { Turn } from '../../sessions/sharing/turn-queue.js'
import { explainFailure, type FailedAttempt } from './explain-failure.js'
import type { Found } from './found.js'
import type { PlanRun } from './plan-run.js'
import type { AsOne } from './run-as-one.js'
import { headerOf } from './run-receipt.js'
import { RunSession } from './run-session.js'

/** All steps in one statement (docs/decisions/0012). What it refuses goes step by step: so it is known which step is refused, and why. */
export function oneStatement(run: PlanRun, asOne: AsOne, turn: Turn): Lane<Found> {
  return {
    name: 'one statement',
    async send() {
      const opened = await RunSession.open(run, turn).catch(refused)
      if (!(opened instanceof RunSession)) return opened
      const sent = await sendIn(opened, asOne).finally(() => opened.close())
      if ('failed' in sent) return refused(await explainFailure(opened, sent.failed, sent.error))
      if (sent.state === 'passed') asOne.wasRefused()
      if (sent.mayRetry) await run.backOff()
      return sent
    },
  }
}

async function sendIn(held: RunSession, asOne: AsOne): Promise<(Sent<Found> & { mayRetry?: boolean }) | FailedAttempt> {
  const { run, session } = held
  const attempt = run.newAttempt(session)
  try {
    const rows = await asOne.run(session, attempt, headerOf(run), run.request.note ?? null)
    held.isClean = true
    return { state: 'committed', found: { by: 'one statement', attempt, rows, asOne } }
  } catch (error) {
    held.watch.end()
    if (isConnectionError(error)) return { state: 'in doubt', error }
    const mayRetry = isSerializationFailure(error)
    const isFinal = held.isOutOfTime(error) || held.isOverdue(error) || (mayRetry && run.attempts > run.plan.retry)
    held.isClean = isFinal ? await held.rollBack() : !isStalePlan(error)
    if (isFinal) return { failed: attempt, error }
    if (isLockTimeout(error)) run.waitedFor = held.watch.holders
    return { state: 'passed', because: error, mayRetry }
  }
}
