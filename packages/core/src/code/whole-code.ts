import { shownStatement, type Plan, type PlannedStep } from '../plan/plan.js'
import { buildOneStatement } from '../plan/one-statement/build-one-statement.js'
import { isLateBind } from '../plan/one-statement/step-sql.js'
import type { Slot } from '../statement/statement.js'
import type { BindCode } from './bind-code.js'
import { inTemplate } from './text.js'

/** The code of a booked transaction as one statement. */
export interface WholeCode {
  /** The constant that holds it. */
  constant: string
  /** What it binds, as items of an array. */
  binds: string[]
}

/**
 * @param hasJudgedParams whether the code judges the rules of parameters before.
 * @returns undefined where a transaction has to be sent step by step.
 */
export function wholeCode(plan: Plan, code: BindCode, hasJudgedParams: boolean): WholeCode | undefined {
  const statement = buildOneStatement(plan, { hasJudgedParams })
  if (!statement) return undefined
  const steps = plan.steps.map((step) => {
    const binds = bookedSlots(step).map((slot) => (isLateBind(step, slot) ? 'b.LATE' : code.bind(slot.source, step)))
    return `[${binds.join(', ')}]`
  })
  const bind = ({ source, step }: Slot): string => {
    if (source.from === 'actor') return 'run.actor'
    if (source.from === 'entry') return source.field === 'id' ? 'run.id' : 'run.note'
    if (source.from !== 'run') return code.bind(source, plan.steps[(step ?? 0) - 1] ?? null)
    return source.field === 'run' ? 'run.toldInPlaces()' : `run.stepsInPlaces([${steps.join(', ')}])`
  }
  return {
    constant: `/** All steps as one statement, which raises where one is refused: then they are run one by one, to tell why. */
const WHOLE = new b.Whole(\`
${inTemplate(statement.text)}\`)\n`,
    binds: statement.slots.map(bind),
  }
}

/** The slots that the entry of a step has, where it is sent alone: a load that counts no rows has no limit. */
function bookedSlots(step: PlannedStep): readonly Slot[] {
  const { slots } = shownStatement(step)
  return step.kind === 'load' ? slots.slice(0, step.inCode().slots.length) : slots
}
