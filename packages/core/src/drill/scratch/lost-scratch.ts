import { setTimeout as delay } from 'node:timers/promises'
import { isProblem, LedgermanProblem } from '@ledgerman/contract'
import { AnswerTooLarge } from '../../sessions/answer-limit.js'
import { isConnectionError } from '../../sessions/connection-error.js'
import { answerTooLarge, connectionReason } from '../../sessions/connection-problem.js'
import type { Session } from '../../sessions/session-pool.js'

/** How long a session may take to say that it is there, in milliseconds. */
const ANSWER_LIMIT_MS = 5_000

/** The problem for a home server that cannot be reached, or was lost in the middle of a drill. @param cause what is known of it */
export function homeLost(cause?: unknown): LedgermanProblem {
  const reason = cause instanceof LedgermanProblem ? cause.cause : cause
  // Its session was broken off by us.
  if (reason instanceof AnswerTooLarge) return answerTooLarge(reason)
  const why = reason === undefined ? '' : `: ${connectionReason(reason)}`
  return new LedgermanProblem(
    'scratch-unavailable',
    `The connection to the home server, where the scratch database is, failed${why}. What ran there was broken off and proves nothing. Try again when the server is back.`,
    {},
    { cause },
  )
}

/** Whether a server was lost: what was asked of it has no answer, not even a refusal. */
export function isLoss(error: unknown): boolean {
  return isConnectionError(error) || isProblem(error, 'target-unavailable')
}

/** Whether something may have gone wrong because the server was lost: one that says nothing is given up after some time. */
export function isOfLoss(error: unknown): boolean {
  return isLoss(error) || isProblem(error, 'time-limit')
}

/** Whether a session was never lost, and its server answers. */
export function answers(session: Session): Promise<boolean> {
  const answered = session.query('select 1').then(
    () => true,
    () => false,
  )
  return Promise.race([answered, delay(ANSWER_LIMIT_MS, false, { ref: false })])
}
