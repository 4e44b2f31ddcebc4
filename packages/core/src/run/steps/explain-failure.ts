import { isProblem, LedgermanProblem } from '@ledgerman/contract'
import { explainConflict } from '../record/explain-conflict.js'
import { AnswerTooLarge } from '../../sessions/answer-limit.js'
import { isConnectionError } from '../../sessions/connection-error.js'
import { answerTooLarge, NOT_COMMITTED } from '../../sessions/connection-problem.js'
import { isDatabaseError } from '../../sessions/database-error.js'
import { lockTimeout } from '../../sessions/lock-timeout.js'
import type { Mapping } from '../../mapping/mapping.js'
import type { Attempt } from './attempt.js'
import { isWrite } from '../../plan/plan.js'
import { brokenInStep } from './broken-in-step.js'
import { partiesOf } from './deadlock-parties.js'
import { timeLimit } from './deadline.js'
import type { RunSession } from './run-session.js'

/** An attempt that was rolled back, for that error. */
export interface FailedAttempt {
  failed: Attempt
  error: unknown
}

/** Makes a problem of what ended an attempt: in which step, for whose lock, by whose change. */
export async function explainFailure(held: RunSession, attempt: Attempt, error: unknown): Promise<unknown> {
  const { target, waitedFor, lockWaitMs, timeLimitMs, request } = held.run
  const ended = endedFromOutside(held, attempt, error)
  if (ended) return ended
  const step = stepOf(attempt)
  const mapping = mappingOf(attempt, error)
  const explained = target.explain(error, {
    ...(mapping ? { mapping } : {}),
    ...(attempt.statement ? { slots: attempt.statement.slots, statement: attempt.statement } : {}),
    lockWaitMs,
    timeLimitMs,
    isOfMany: attempt.current !== null && 'isByWhere' in attempt.current,
  })
  if (!isProblem(explained)) return explained
  const { conflict } = attempt
  if (conflict && explained.code === 'record-changed')
    return explainConflict(target, conflict.mapping, conflict.key, conflict.guards, explained, request.actor)
  if (explained.code === 'lock-timeout' && !('leftOut' in explained.facts))
    return lockTimeout(explained, waitedFor ?? held.watch.holders, lockWaitMs, step)
  if (isDatabaseError(error) && error.code === '40P01')
    return explained.with({ step, parties: await partiesOf(target, error.detail ?? ''), lastError: error.message })
  return withBroken(step === undefined || 'step' in explained.facts ? explained : explained.with({ step }), attempt)
}

/** The step that failed; where all are one statement it is known only where there is but one. */
function stepOf({ current, plan }: Attempt): number | undefined {
  return current?.no ?? (plan.steps.length === 1 ? 1 : undefined)
}

/** The mapping of the step that failed; where a constraint is checked at the end only, the one of the table that the error names. */
function mappingOf({ current, plan }: Attempt, error: unknown): Mapping | undefined {
  if (current) return 'mapping' in current ? current.mapping : undefined
  const { schema = '', table = '' } = isDatabaseError(error) ? error : {}
  const written = plan.steps.filter(isWrite).map((step) => step.mapping)
  return written.find((mapping) => mapping.table.schema === schema && mapping.table.name === table)
}

/** Adds the values that break a constraint, as far as they are known. */
function withBroken(problem: LedgermanProblem, { current, plan, state }: Attempt): LedgermanProblem {
  if (problem.code !== 'constraint-broken' || !current || !isWrite(current) || current.kind === 'remove') return problem
  const broken = brokenInStep(plan, state, current, (problem.facts['properties'] as string[] | undefined) ?? [])
  return broken.length === 0 ? problem : problem.with({ broken })
}

/** The problem of an attempt that something else than its statements ended: the network, the clock, the caller, a lock's wait. */
function endedFromOutside(held: RunSession, attempt: Attempt, error: unknown): LedgermanProblem | undefined {
  const { target, timeLimitMs, lockWaitMs } = held.run
  const step = stepOf(attempt)
  const cause = { cause: error }
  const hasStopped = held.deadline.hasFired && (isDatabaseError(error) || isConnectionError(error))
  if (error instanceof AnswerTooLarge) return answerTooLarge(error, NOT_COMMITTED).with({ step })
  if (isConnectionError(error) && step !== undefined && !hasStopped)
    return new LedgermanProblem(
      'target-unavailable',
      `The connection to ${target.name} broke in step ${step}. Nothing was committed; try again.`,
      { target: target.name, step },
      cause,
    )
  if (hasStopped)
    return held.deadline.isCallerGone
      ? new LedgermanProblem(
          'cancelled',
          'The caller went away; the run was cancelled and rolled back.',
          { step },
          cause,
        )
      : timeLimit(timeLimitMs, step, error)
  if (!held.isOverdue(error)) return undefined
  const problem = new LedgermanProblem('lock-timeout', 'A lock was not granted in time.', {}, cause)
  return lockTimeout(problem, held.watch.holders, lockWaitMs, step)
}
