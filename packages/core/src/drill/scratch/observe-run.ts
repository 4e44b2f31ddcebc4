import type { Json } from '@ledgerman/contract'
import { newEntryId } from '../../book/entry-id.js'
import type { Mapping } from '../../mapping/mapping.js'
import type { Plan, PlannedStep } from '../../plan/plan.js'
import { Attempt } from '../../run/steps/attempt.js'
import type { SeenRows } from '../../run/steps/seen-rows.js'
import { readParams } from '../../plan/read-params.js'
import type { Session } from '../../sessions/session-pool.js'
import type { Target } from '../../target/target.js'
import { isLoss } from './lost-scratch.js'

/** A plan with the parameters it is run with. */
export interface Drilled {
  plan: Plan
  params: Readonly<Record<string, Json>>
  /** What it is called in reports: the transaction's name, or what is saved. */
  what: string
  /** Who runs it. */
  actor: string
  /** Which one it is, from 0, where several are drilled. */
  at?: number | undefined
}

/** A row that a run read, matched or wrote, by its mapping; values in text form, in the mapping's order. */
export interface ObservedRow {
  step: PlannedStep
  mapping: Mapping
  before: readonly (string | null)[] | null
  after: readonly (string | null)[] | null
}

/** An attempt at a drilled plan in a session of its own, which nobody books. */
export function attemptOf(
  target: Target,
  { plan, params, actor }: Drilled,
  session: Session,
  isBooked = false,
): Attempt {
  const state = {
    entry: newEntryId(),
    actor,
    params: readParams(plan, params),
    given: params,
    loaded: new Map(),
    outcomes: new Map(),
  }
  return new Attempt(target, plan, state, session, isBooked, false, new Map())
}

/**
 * Runs the steps on the target, as a rehearsal does, and rolls back: which rows it reads, matches and writes, as far as it gets.
 * A refusal is part of what is drilled, and no error here.
 */
export async function observeRun(target: Target, drilled: Drilled): Promise<ObservedRow[]> {
  const observed: ObservedRow[] = []
  const session = await target.session()
  let isClean = false
  try {
    const attempt = attemptOf(target, drilled, session)
    attempt.onRows = ({ step, mapping, rows }: SeenRows) => {
      if (mapping) observed.push(...rows.map(({ before, after }) => ({ step, mapping, before, after })))
    }
    await attempt
      .begin()
      .then(() => attempt.runSteps())
      .catch((error: unknown) => {
        if (isLoss(error)) throw target.explain(error)
      })
    isClean = await session.query('rollback').then(
      () => true,
      () => false,
    )
  } finally {
    session.release(!isClean || drilled.plan.steps.some(({ kind }) => kind === 'sql'))
  }
  return observed
}
