import { LedgermanProblem } from '@ledgerman/contract'
import { introducePlan } from '../../book/book-run.js'
import { settle } from '../../book/settle.js'
import { carryOut } from '../lanes/carry-out.js'
import type { Plan } from '../../plan/plan.js'
import { readParams } from '../../plan/read-params.js'
import { tellEnd } from '../../sessions/activity.js'
import type { Target } from '../../target/target.js'
import type { Found } from './found.js'
import { planLanes } from './plan-lanes.js'
import { PlanRun } from './plan-run.js'
import { refuseRun, unsettledRun } from './refuse-run.js'
import { bookedReceipt, toRunReceipt } from './run-receipt.js'
import type { RunRequest, RunResult } from './run-request.js'

/**
 * Runs a plan: one transaction, all or nothing.
 *
 * @throws LedgermanProblem with the receipt as far as the run got.
 */
export function runPlan(target: Target, plan: Plan, request: RunRequest): Promise<RunResult> {
  return tellEnd(target.activity, 'run', request.mode, runToItsEnd(target, plan, request))
}

async function runToItsEnd(target: Target, plan: Plan, request: RunRequest): Promise<RunResult> {
  const params = readParams(plan, request.params)
  if (request.mode === 'commit') await assertReady(target, plan, request)
  const run = new PlanRun(target, plan, request, params)
  request.onBegin?.({ id: run.id, startedAt: run.startedAt })
  return carryOut<Found, RunResult>(target, {
    lanes: planLanes(run),
    settle: (cause) => settle(target, run.lost, cause),
    tell: (found) => tell(run, found),
    tellFromBook: async () => ({ receipt: await bookedReceipt(run), evidence: [] }),
    refuse: (error) => refuseRun(run, error),
    unsettled: (problem) => unsettledRun(run, problem),
  })
}

async function assertReady(target: Target, plan: Plan, { rehearsed }: RunRequest): Promise<void> {
  await target.assertBook()
  const uncounted = plan.steps.find((step) => step.expect === null)
  if (uncounted && !rehearsed)
    throw new LedgermanProblem(
      'count-required',
      `Step ${uncounted.no} changes by where and states no count. Say expect, or rehearse it and commit with the rehearsal's token.`,
      { where: `steps.${uncounted.no}.expect`, step: uncounted.no },
    )
  await introducePlan(target, plan).catch((error: unknown) => {
    throw target.explain(error)
  })
}

async function tell(run: PlanRun, found: Found): Promise<RunResult> {
  switch (found.by) {
    case 'a request before':
      return { receipt: found.receipt, evidence: [] }
    case 'steps': {
      const receipt = toRunReceipt(run, run.isCommit ? 'committed' : 'rehearsed', found.attempt)
      return { receipt, evidence: found.attempt.evidence }
    }
    case 'one statement': {
      const receipt = toRunReceipt(run, 'committed', await found.attempt.playedBack(found.rows))
      found.asOne?.wentWell()
      return { receipt, evidence: [] }
    }
  }
}
