import type { Receipt } from '@ledgerman/contract'
import type { BookedRun } from '../book/book-run.js'
import type { LostCommit } from '../book/settle.js'
import { getEntry } from '../book/read-entries.js'
import { isWrite, type Plan } from '../plan/plan.js'
import { roundedBy, roundingsOf } from '../plan/roundings.js'
import type { Target } from '../target/target.js'
import { entryAddress, roundMs } from '../receipt/receipt.js'
import type { Attempt } from './attempt.js'
import type { RunRequest } from './run-request.js'
import { runReversibility } from '../plan/run-reversibility.js'

/** A run's id, and since when it runs. */
export interface RunClock {
  id: string
  startedAt: string
  started: number
}

/** What the book says of a run that is about to be one statement; how long it took, and what it left, the statement adds. */
export function headerOf(plan: Plan, request: RunRequest, { startedAt }: RunClock, attempts: number): BookedRun {
  const rounded = roundingsOf(plan, request.params)
  return {
    transaction: plan.name,
    revision: plan.revision,
    isolation: plan.isolation,
    attempts,
    durationMs: null,
    startedAt,
    reversible: null,
    definitions: revisionsOf(plan),
    ...(rounded.length > 0 ? { rounded } : {}),
  }
}

function revisionsOf({ mappings }: Plan): Record<string, number> {
  return Object.fromEntries([...mappings].map(([name, { revision }]) => [name, revision]))
}

/** The receipt of a run as far as it got. */
export function toRunReceipt(
  target: Target,
  plan: Plan,
  request: RunRequest,
  run: RunClock,
  outcome: Receipt['outcome'],
  attempts: number,
  attempt: Attempt | null,
): Receipt {
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
    attempts,
    isolation: plan.isolation,
    replayed: false,
    steps: attempt?.receipts ?? [],
    rehearsal: null,
    entry: request.mode === 'rehearse' ? null : entryAddress(target.name, run.id),
    reversible: outcome === 'refused' ? null : runReversibility(plan, attempt?.receipts ?? []),
    definitions: revisionsOf(plan),
    ...lateTriggers(plan, attempt),
    ...roundedBy(attempt?.receipts ?? [], roundingsOf(plan, request.params)),
  }
}

/** What the values of a run may not show: what triggers write that fire after the step that returned them. */
function lateTriggers(plan: Plan, attempt: Attempt | null): Pick<Receipt, 'notShown'> {
  const words = new Set<string>()
  for (const step of plan.steps) {
    const changed = attempt?.receipts.find(({ no }) => no === step.no)?.changed ?? 0
    if (!isWrite(step) || changed === 0 || step.mapping.table.afterTriggers.length === 0) continue
    const { name, table } = step.mapping
    words.add(
      `${name}: what ${table.afterTriggers.join(', ')} may have written to the same rows after they were written. Load them to see.`,
    )
  }
  return words.size === 0 ? {} : { notShown: [...words] }
}

/** A run's commit whose answer was lost. */
export function lostCommit({ id, startedAt }: RunClock, { actor, note }: RunRequest): LostCommit {
  return { id, startedAt, actor, note: note ?? null }
}

/**
 * The receipt of a run that was committed as one statement, out of what the statement gave back; out of the book where that cannot be
 * told. The run is committed by now: whatever goes wrong here, this is no refusal.
 */
export async function toldReceipt(
  target: Target,
  plan: Plan,
  request: RunRequest,
  run: RunClock,
  attempts: number,
  attempt: Attempt,
  rows: readonly (readonly (string | null)[])[],
): Promise<Receipt> {
  try {
    return toRunReceipt(target, plan, request, run, 'committed', attempts, await attempt.playedBack(rows))
  } catch {
    return bookedReceipt(target, plan, request, run)
  }
}

/** The receipt of a run that was committed, out of the book; without its steps where the book cannot be read. */
export async function bookedReceipt(target: Target, plan: Plan, request: RunRequest, run: RunClock): Promise<Receipt> {
  try {
    return (await getEntry(target, run.id, (name) => Promise.resolve(plan.mappings.get(name)))).receipt
  } catch {
    const bare = toRunReceipt(target, plan, request, run, 'committed', 1, null)
    return {
      ...bare,
      reversible: null,
      notShown: ['What the steps did is in the book, which could not be read just now.'],
    }
  }
}
