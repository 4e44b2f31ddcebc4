import type { Slot, Statement } from '../statement/statement.js'
import { isWrite, type PlannedStep } from './plan.js'

/**
 * Marks every bind of a parameter that meets a sensitive property somewhere, wherever else it is bound: what must not be shown beside
 * the property must not be shown beside anything. The parameters of a raw statement that names the column of a sensitive property count
 * as meeting it.
 *
 * @returns the names of these parameters.
 */
export function hideSensitive(prologue: Statement, steps: readonly PlannedStep[]): ReadonlySet<string> {
  const statements = [prologue, ...steps.flatMap(statementsOf)]
  const columns = sensitiveColumns(steps)
  const hidden = new Set<string>()
  for (const statement of statements)
    for (const slot of statement.slots)
      if (slot.sensitive && slot.source.from === 'parameter') hidden.add(slot.source.name)
  for (const step of steps)
    if (step.kind === 'sql' && columns.some((column) => step.source.includes(column)))
      for (const name of parametersOf(step.statement.slots)) hidden.add(name)
  for (const { slots } of statements)
    for (const slot of slots)
      if (slot.source.from === 'parameter' && hidden.has(slot.source.name)) slot.sensitive = true
  return hidden
}

function parametersOf(slots: readonly Slot[]): string[] {
  return slots.flatMap(({ source }) => (source.from === 'parameter' ? [source.name] : []))
}

function statementsOf(step: PlannedStep): Statement[] {
  const beside = [...(step.when ? [step.when.statement] : []), ...(step.foundKeys ? [step.foundKeys] : [])]
  if (step.kind === 'require') return [...beside, step.judgement.statement]
  return isWrite(step) ? [...beside, step.step, step.run] : [...beside, step.statement]
}

function sensitiveColumns(steps: readonly PlannedStep[]): string[] {
  return steps.flatMap((step) =>
    'mapping' in step
      ? step.mapping.properties.flatMap(({ sensitive, column }) => (sensitive ? [column.name] : []))
      : [],
  )
}
