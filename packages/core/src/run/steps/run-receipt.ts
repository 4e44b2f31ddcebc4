import { entryAddress, type Receipt, roundMs } from '@ledgerman/contract'
import type { BookedRun } from '../../book/book-run.js'
import { getEntry } from '../../book/read-entries.js'
import { lateTriggers, writtenBeside } from '../../mapping/side-writes.js'
import { isWrite, type Plan } from '../../plan/plan.js'
import { roundedBy } from '../../plan/roundings.js'
import { kindsOf, runReversibility } from '../../plan/run-reversibility.js'
import { toldBeside, type OwnRows } from '../record/written-with-it.js'
import type { Attempt } from './attempt.js'
import type { PlanRun } from './plan-run.js'

/** What the book says of a run that is about to be one statement; how long it took, and what it left, the statement adds. */
export function headerOf({ plan, startedAt, attempts, definitions, roundings: rounded }: PlanRun): BookedRun {
  return {
    transaction: plan.name,
    revision: plan.revision,
    isolation: plan.isolation,
    attempts,
    durationMs: null,
    startedAt,
    reversible: null,
    definitions,
    ...(rounded.length > 0 ? { rounded } : {}),
  }
}

/** The receipt of a run as far as it got. */
export function toRunReceipt(run: PlanRun, outcome: Receipt['outcome'], attempt: Attempt | null): Receipt {
  const { target, plan, request } = run
  const steps = attempt?.receipts ?? []
  return {
    id: run.id,
    target: target.name,
    mode: request.mode,
    outcome,
    transaction: plan.name,
    revision: plan.revision,
    actor: request.actor,
    note: request.note ?? null,
    startedAt: run.startedAt,
    durationMs: roundMs(performance.now() - run.started),
    attempts: run.attempts,
    isolation: plan.isolation,
    replayed: false,
    steps,
    rehearsal: null,
    entry: request.mode === 'rehearse' ? null : entryAddress(target.name, run.id),
    reversible: outcome === 'refused' ? null : runReversibility(plan, steps),
    definitions: run.definitions,
    ...notShown(plan, attempt),
    ...roundedBy(steps, run.roundings),
  }
}

/** What a receipt cannot show: what triggers write that fire after the step that returned the values, and what they and foreign keys write elsewhere. */
function notShown(plan: Plan, attempt: Attempt | null): Pick<Receipt, 'notShown' | 'writtenWithIt'> {
  const late = new Set<string>()
  const beside = new Set<string>()
  const wrote: OwnRows[] = []
  for (const step of plan.steps) {
    const changed = attempt?.receipts.find(({ no }) => no === step.no)?.changed ?? 0
    if (!isWrite(step) || changed === 0) continue
    const { mapping, set } = step
    const kinds = kindsOf(step)
    wrote.push({ mapping, kinds, changed })
    const triggers = [...new Set(kinds.flatMap((each) => lateTriggers(mapping, each)))]
    if (triggers.length > 0)
      late.add(
        `${mapping.name}: what ${triggers.join(', ')} may have written to the same rows after they were written. Load them to see.`,
      )
    for (const each of kinds.flatMap((one) => writtenBeside(mapping, one, set))) beside.add(each)
  }
  return toldBeside([...beside], [...late], attempt?.writtenWithIt ?? null, wrote)
}

/** The receipt of a run that was committed, out of the book; without its steps where the book cannot be read. */
export async function bookedReceipt(run: PlanRun): Promise<Receipt> {
  try {
    return (await getEntry(run.target, run.id, (name) => Promise.resolve(run.plan.mappings.get(name)))).receipt
  } catch {
    const bare = toRunReceipt(run, 'committed', null)
    return {
      ...bare,
      reversible: null,
      notShown: ['What the steps did is in the book, which could not be read just now.'],
    }
  }
}
