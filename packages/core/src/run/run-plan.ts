import { setTimeout as delay } from 'node:timers/promises'
import { isProblem, LedgermanProblem, type LockHolder } from '@ledgerman/contract'
import { newEntryId } from '../book/entry-id.js'
import { bookRun, introducePlan, recordRefusedRun } from '../book/book-run.js'
import { findRequest } from '../book/find-replay.js'
import { keyOfFailingRow } from '../problem/failing-row.js'
import { settle } from '../book/settle.js'
import type { Plan } from '../plan/plan.js'
import { isConnectionError } from '../sessions/connection-error.js'
import {
  isCancelled,
  isDatabaseError,
  isLockTimeout,
  isSerializationFailure,
  isStalePlan,
} from '../sessions/database-error.js'
import type { Rows } from '../sessions/queryable.js'
import { DRIVER_PATIENCE_MS, type Session } from '../sessions/session-pool.js'
import { partiesOf } from './deadlock-parties.js'
import type { Target } from '../target/target.js'
import { explainConflict } from '../record/explain-conflict.js'
import { bookNotPrepared, inRecord } from '../record/change-problems.js'
import { tellEnd } from '../sessions/activity.js'
import { NoTurn, type Turn } from '../sharing/turn-queue.js'
import { lockTimeout } from '../waits/lock-timeout.js'
import { LockWatch } from '../waits/lock-watch.js'
import { Attempt } from './attempt.js'
import { assertSame } from './evidence.js'
import { readParams } from '../plan/read-params.js'
import { Deadline, timeLimit } from './deadline.js'
import { AsOne } from './run-as-one.js'
import { bookedReceipt, headerOf, lostCommit, toldReceipt, toRunReceipt, type RunClock } from './run-receipt.js'
import type { RunRequest, RunResult } from './run-request.js'
import { runShared } from './run-shared.js'

const LONGEST_BACKOFF_MS = 1_000

/** What steps that were sent with their run stand in line as. */
const AD_HOC = ':steps'

/** How long a refused run waits for what it had sent already, before it is cancelled. */
const AHEAD_PATIENCE_MS = 20

/**
 * Runs a plan: one session, one transaction, all or nothing.
 *
 * @throws LedgermanProblem with the receipt as far as the run got.
 */
export function runPlan(target: Target, plan: Plan, request: RunRequest): Promise<RunResult> {
  return tellEnd(target.activity, 'run', request.mode, runToItsEnd(target, plan, request))
}

async function runToItsEnd(target: Target, plan: Plan, request: RunRequest): Promise<RunResult> {
  const params = readParams(plan, request.params)
  const isCommit = request.mode === 'commit'
  if (isCommit) {
    if (!(await target.isBookPrepared())) throw bookNotPrepared(target)
    const uncounted = plan.steps.find((step) => step.expect === null)
    if (uncounted && !request.rehearsed)
      throw new LedgermanProblem(
        'request-invalid',
        `Step ${uncounted.no} changes by where and states no count. Say expect, or rehearse it and commit with the rehearsal's token.`,
        { where: `steps.${uncounted.no}.expect`, step: uncounted.no },
      )
    await introducePlan(target, plan).catch((error: unknown) => {
      throw target.explain(error)
    })
  }
  const run = { id: newEntryId(), startedAt: new Date().toISOString(), started: performance.now() }
  request.onBegin?.(run)
  let asOne = mayBeOne(request) ? AsOne.of(plan) : undefined
  let waitedFor: readonly LockHolder[] | undefined
  const shared = asOne && (await runShared(target, plan, request, params, run, asOne))
  if (shared?.receipt) return { receipt: shared.receipt, evidence: [] }
  if (shared?.problem !== undefined) throw await refuse({ problem: shared.problem, attempt: null }, 1)
  if (shared?.waitedFor) {
    waitedFor = shared.waitedFor
    asOne = undefined
  }
  const turn = await target.runTurns
    .enter(plan.name ?? AD_HOC, plan.lockWaitMs ?? target.limits.lockWaitMs)
    .catch(async (error: unknown) => {
      throw error instanceof NoTurn ? await refuse({ problem: crowded(plan, error), attempt: null }, 1) : error
    })
  try {
    return await runInTurn(turn)
  } finally {
    turn.leave()
  }

  async function runInTurn(turn: Turn): Promise<RunResult> {
    for (let attempts = 1; ; attempts++) {
      const outcome = await attemptOnce(target, plan, request, params, run, attempts, asOne, waitedFor, turn)
      if (outcome.result) {
        asOne?.wentWell(outcome.result.receipt)
        return outcome.result
      }
      if (asOne && !outcome.isFinal) {
        // Step by step from here on: so it is known which step is refused, and why.
        asOne.wasRefused()
        asOne = undefined
        waitedFor = outcome.waitedFor
        if (!outcome.mayRetry) {
          attempts--
          continue
        }
      }
      if (!outcome.mayRetry || attempts > plan.retry) throw await refuse(outcome, attempts)
      target.activity.retried?.()
      // Full jitter, so that those who met do not meet again at once.
      await delay(Math.random() * Math.min(LONGEST_BACKOFF_MS, 10 * 2 ** attempts))
    }
  }

  async function refuse({ problem, attempt }: Pick<Failed, 'problem' | 'attempt'>, attempts: number): Promise<unknown> {
    if (!isProblem(problem)) return problem
    const receipt = toRunReceipt(target, plan, request, run, 'refused', attempts, attempt)
    const isBooked =
      isCommit &&
      !isProblem(problem, 'idempotency-key-in-use') &&
      !isProblem(problem, 'idempotency-key-reused') &&
      (await recordRefusedRun(target, plan, receipt, problem))
    if (!isBooked) receipt.entry = null
    return problem.with({ receipt, ...(isProblem(problem, 'retries-exhausted') ? { attempts } : {}) })
  }
}

interface Failed {
  result?: undefined
  problem: unknown
  mayRetry: boolean
  attempt: Attempt | null
  /** Whether the run is over, where it was sent as one statement. */
  isFinal?: boolean
  /** Who held the lock that one statement was not granted in time. */
  waitedFor?: readonly LockHolder[] | undefined
}

/** What is committed as rehearsed, or once for its key, or drilled, is looked at between its steps. */
function mayBeOne({ mode, rehearsed, request, hooks }: RunRequest): boolean {
  return mode === 'commit' && !rehearsed && !request && !hooks
}

async function attemptOnce(
  target: Target,
  plan: Plan,
  request: RunRequest,
  params: ReadonlyMap<string, string | null>,
  run: RunClock,
  attempts: number,
  asOne: AsOne | undefined,
  waitedFor: readonly LockHolder[] | undefined,
  turn: Turn,
): Promise<{ result: RunResult } | Failed> {
  const isCommit = request.mode === 'commit'
  const session = await (asOne ? target.sessionInTurn() : target.session())
  const lockWaitMs = plan.lockWaitMs ?? target.limits.lockWaitMs
  const timeLimitMs = plan.timeLimitMs ?? target.limits.timeLimitMs
  session.limitTo(timeLimitMs + DRIVER_PATIENCE_MS)
  const watch = new LockWatch(target, session.pid, lockWaitMs, (holders) => {
    turn.tellHolders(holders)
    request.onWait?.(holders)
  })
  const state = {
    entry: run.id,
    actor: request.actor,
    params,
    given: request.params,
    loaded: new Map(),
    outcomes: new Map(),
  }
  const fixed = new Map((request.rehearsed ?? []).map(({ step, matched }) => [step, matched]))
  const attempt = new Attempt(
    target,
    plan,
    state,
    session,
    isCommit,
    !isCommit || request.rehearsed !== undefined,
    fixed,
  )
  attempt.sendsAhead = !request.hooks
  const limit = new Deadline(target, session, run.started + timeLimitMs - performance.now(), request.signal)
  let isCommitting = false
  let isClean = false
  try {
    if (asOne) {
      isCommitting = true
      const rows = await asOne.run(session, attempt, headerOf(plan, request, run, attempts), request.note ?? null)
      isClean = true
      return {
        result: { receipt: await toldReceipt(target, plan, request, run, attempts, attempt, rows), evidence: [] },
      }
    }
    await attempt.begin()
    // The whole wait is behind it: what is still locked is refused at once, and it is known in which step.
    if (waitedFor) await session.query(`set local lock_timeout = 1`)
    if (isCommit && request.request) {
      const before = await findRequest(target, session, plan, request.actor, request.request)
      if (before) {
        await session.query('rollback')
        isClean = true
        return { result: { receipt: { ...before, replayed: true }, evidence: [] } }
      }
    }
    for (const step of plan.steps) {
      attempt.current = step
      await request.hooks?.beforeStep?.(step.no, session)
      await attempt.runStep(step)
      await request.hooks?.afterStep?.(step.no, session)
    }
    if (request.rehearsed) assertSame(request.rehearsed, attempt.evidence)
    if (isCommit) {
      attempt.statement = null
      await bookRun(
        session,
        plan,
        toRunReceipt(target, plan, request, run, 'committed', attempts, attempt),
        request.request,
      )
      await request.hooks?.beforeCommit?.(session)
      isCommitting = true
      const { command } = await (request.hooks?.commit ?? sendCommit)(session)
      if (command !== 'COMMIT') throw new LedgermanProblem('internal', `COMMIT was answered with ${command}.`)
    } else {
      await session.query('set constraints all immediate')
      await session.query('rollback')
    }
    isClean = true
    return done('committed')
  } catch (error) {
    watch.end()
    if (isConnectionError(error) && isCommitting) {
      isClean = false
      return settle(target, lostCommit(run, request), error).then(
        async () =>
          asOne
            ? { result: { receipt: await bookedReceipt(target, plan, request, run), evidence: [] } }
            : done('committed'),
        (problem: unknown) => ({ problem, mayRetry: false, attempt, isFinal: true }),
      )
    }
    if (asOne && !isOutOfTime(error) && !isOverdue(error)) {
      isClean = !isStalePlan(error)
      return {
        problem: isSerializationFailure(error) ? await explain(error) : error,
        mayRetry: isSerializationFailure(error),
        attempt,
        waitedFor: isLockTimeout(error) ? watch.holders : undefined,
      }
    }
    // What was sent ahead may wait for a lock that nobody needs any more. A cancel may come late: the session is not used again.
    const isOver = await attempt.isAheadOver(AHEAD_PATIENCE_MS)
    if (!isOver) await target.cancel(session.pid)
    isClean = await session.query('rollback').then(
      () => isOver,
      () => false,
    )
    return { problem: await explain(error), mayRetry: isSerializationFailure(error), attempt, isFinal: true }
  } finally {
    watch.end()
    limit.end()
    // A raw statement may leave anything behind in a session, and a cancel may come late.
    const isSuspect = limit.hasFired || plan.steps.some((step) => step.kind === 'sql')
    await Promise.all([limit.settled, watch.settled])
    session.release(!isClean || isSuspect || watch.hasCancelled)
  }

  function done(outcome: 'committed'): { result: RunResult } {
    const receipt = toRunReceipt(target, plan, request, run, isCommit ? outcome : 'rehearsed', attempts, attempt)
    return { result: { receipt, evidence: attempt.evidence } }
  }

  /** Whether it was ended because it had waited for a lock as long as it may. */
  function isOverdue(error: unknown): boolean {
    return watch.hasCancelled && isCancelled(error)
  }

  function isOutOfTime(error: unknown): boolean {
    return limit.hasFired || isCancelled(error)
  }

  async function explain(error: unknown): Promise<unknown> {
    const step = attempt.current?.no
    if (isConnectionError(error) && step !== undefined)
      return new LedgermanProblem(
        'target-unavailable',
        `The connection to ${target.name} broke in step ${step}. Nothing was committed; try again.`,
        { target: target.name, step },
        { cause: error },
      )
    if (limit.hasFired && isDatabaseError(error))
      return limit.isCallerGone
        ? new LedgermanProblem(
            'cancelled',
            'The caller went away; the run was cancelled and rolled back.',
            { step },
            { cause: error },
          )
        : timeLimit(timeLimitMs, step, error)
    if (isOverdue(error))
      return lockTimeout(
        new LedgermanProblem('lock-timeout', 'A lock was not granted in time.', {}, { cause: error }),
        watch.holders,
        lockWaitMs,
        step,
      )
    const mapping = attempt.current && 'mapping' in attempt.current ? attempt.current.mapping : undefined
    const explained = target.explain(error, {
      ...(mapping ? { mapping } : {}),
      ...(attempt.statement ? { slots: attempt.statement.slots, statement: attempt.statement } : {}),
      lockWaitMs,
      timeLimitMs,
    })
    if (!isProblem(explained)) return explained
    const { conflict } = attempt
    if (conflict && explained.code === 'record-changed')
      return explainConflict(target, conflict.mapping, conflict.key, conflict.guards, explained, request.actor)
    if (explained.code === 'lock-timeout' && !('leftOut' in explained.facts))
      return lockTimeout(explained, waitedFor ?? watch.holders, lockWaitMs, step)
    if (isDatabaseError(error) && error.code === '40P01')
      return explained.with({ step, parties: await partiesOf(target, error.detail ?? ''), lastError: error.message })
    const placed = step === undefined || 'step' in explained.facts ? explained : explained.with({ step })
    if (!mapping || !isDatabaseError(error) || !attempt.current || !('isByWhere' in attempt.current)) return placed
    const failing = keyOfFailingRow(error, mapping)
    return failing
      ? new LedgermanProblem(
          placed.code,
          inRecord(placed.detail, failing),
          { ...placed.facts, key: failing },
          { cause: error },
        )
      : placed
  }
}

/** The problem of a run that found no place beside others of its transaction, which wait for a lock or for one another. */
function crowded(plan: Plan, { waitedMs, holders }: NoTurn): LedgermanProblem {
  const what = plan.name ?? 'such steps'
  if (holders.length > 0)
    return lockTimeout(
      new LedgermanProblem('lock-timeout', 'A lock was not granted in time.'),
      holders,
      Math.round(waitedMs),
      undefined,
      waitedMs,
    )
  return new LedgermanProblem(
    'too-many-requests',
    `Too many runs of ${what} are going on at once: none of them came to its end within ${Math.round(waitedMs) / 1000} s. Nothing was changed; try again.`,
    { transaction: plan.name },
  )
}

function sendCommit(session: Session): Promise<Rows> {
  return session.query('commit')
}
