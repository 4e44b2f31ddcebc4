import { isProblem } from '@ledgerman/contract'
import { recordRefusedRun } from '../../book/book-run.js'
import type { PlanRun } from './plan-run.js'
import { toRunReceipt } from './run-receipt.js'

/** The problem of a run that was rolled back, with its receipt; a refused commit goes to the book. */
export async function refuseRun(run: PlanRun, problem: unknown): Promise<unknown> {
  if (!isProblem(problem)) return problem
  const receipt = toRunReceipt(run, 'refused', run.attempt)
  const isOfItsKey = isProblem(problem, 'idempotency-key-in-use', 'idempotency-key-reused')
  const isBooked = run.isCommit && !isOfItsKey && (await recordRefusedRun(run.target, run.plan, receipt, problem))
  if (!isBooked) receipt.entry = null
  return problem.with({ receipt, ...(isProblem(problem, 'retries-exhausted') ? { attempts: run.attempts } : {}) })
}

/** The problem of a run that was in doubt. Of one that was settled as refused the entry stands; of one that nobody knows of there is no receipt. */
export function unsettledRun(run: PlanRun, problem: unknown): unknown {
  if (!isProblem(problem) || problem.code === 'outcome-unknown') return problem
  return problem.with({ receipt: toRunReceipt(run, 'refused', run.attempt) })
}
