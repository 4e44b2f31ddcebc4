import { isWrite, type PlannedStep } from '../../plan/plan.js'
import type { Statement } from '../../statement/statement.js'

/** How many statements may be on their way at once. */
const MOST_AHEAD = 8

/**
 * The steps behind one whose statements can be sent before it is judged, in order: those whose binds do not come from a step that is
 * still on its way. Whatever is sent too early is rolled back with all the rest, since the COMMIT is never sent ahead; so a step may go
 * ahead that writes, but none that could leave something outside of the transaction behind (a raw statement, a sequence's number).
 */
export function stepsAhead(steps: readonly PlannedStep[], current: PlannedStep, isBooked: boolean): PlannedStep[] {
  const coming = new Set<string>(current.as === null ? [] : [current.as])
  const ahead: PlannedStep[] = []
  for (const step of steps.slice(current.no, current.no + MOST_AHEAD)) {
    if (step.when || step.foundKeys || step.kind === 'sql' || step.kind === 'add') break
    if (waitsFor(step, coming, isBooked)) break
    ahead.push(step)
    if (step.as !== null) coming.add(step.as)
  }
  return ahead
}

/** The statement that a step runs. */
export function statementOf(step: PlannedStep, isBooked: boolean): Statement {
  if (step.kind === 'require') return step.judgement.statement
  return isWrite(step) ? (isBooked ? step.run : step.step) : step.statement
}

function waitsFor(step: PlannedStep, coming: ReadonlySet<string>, isBooked: boolean): boolean {
  if (isWrite(step) && step.loadedName !== null && coming.has(step.loadedName)) return true
  return statementOf(step, isBooked).slots.some(
    ({ source }) => (source.from === 'loaded' || source.from === 'outcome') && coming.has(source.name),
  )
}
