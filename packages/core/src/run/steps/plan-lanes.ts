import { LedgermanProblem } from '@ledgerman/contract'
import { refused, type Lane } from '../lanes/lane.js'
import type { Plan } from '../../plan/plan.js'
import type { NoTurn } from '../../sessions/sharing/turn-queue.js'
import { lockTimeout } from '../../sessions/lock-timeout.js'
import type { Found } from './found.js'
import { oneStatement } from './one-statement-lane.js'
import type { PlanRun } from './plan-run.js'
import { callerLeft } from './deadline.js'
import { AsOne } from './run-as-one.js'
import type { RunRequest } from './run-request.js'
import { inTurn, together } from './shared-lanes.js'
import { stepByStep } from './step-lane.js'

/** What steps that were sent with their run stand in line as. */
const AD_HOC = ':steps'

/** The ways a plan may be run, each only where those before did not take it, and the caller is still there. */
export async function* planLanes(run: PlanRun): AsyncGenerator<Lane<Found>> {
  for await (const lane of lanesOf(run))
    yield run.request.signal?.aborted ? { ...lane, send: () => Promise.resolve(refused(callerLeft())) } : lane
}

async function* lanesOf(run: PlanRun): AsyncGenerator<Lane<Found>> {
  const { target, plan, request, lockWaitMs } = run
  const asOne = mayBeOne(request) ? AsOne.of(plan) : undefined
  if (asOne) yield together(run, asOne)
  if (asOne && !run.waitedFor) yield inTurn(run, asOne)
  const turn = await target.runTurns.enter(plan.name ?? AD_HOC, lockWaitMs).catch((error: NoTurn) => error)
  if (turn instanceof Error) {
    yield { name: 'step by step', send: () => Promise.resolve(refused(crowded(plan, turn))) }
    return
  }
  try {
    if (asOne && !run.waitedFor) yield oneStatement(run, asOne, turn)
    yield stepByStep(run, turn)
  } finally {
    turn.leave()
  }
}

/** What is committed as rehearsed, or once for its key, or drilled, is looked at between its steps. */
function mayBeOne({ mode, rehearsed, request, hooks }: RunRequest): boolean {
  return mode === 'commit' && !rehearsed && !request && !hooks
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
    `Too many runs of ${what} are going on at once: the turn of this one did not come within ${Math.round(waitedMs) / 1000} s. Nothing was changed; try again.`,
    { transaction: plan.name },
  )
}
