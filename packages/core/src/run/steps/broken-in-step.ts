import type { BrokenValue } from '@ledgerman/contract'
import type { Property } from '../../mapping/mapping.js'
import type { Plan, PlannedWrite } from '../../plan/plan.js'
import { shownRecord } from '../../mapping/record-row.js'
import type { RunState } from './run-state.js'

/**
 * What a write of a run would have set of these properties: literal values, parameters, and what was loaded of the record before. What only the
 * database knows, such as a value computed from the row, is left out.
 */
export function brokenInStep(plan: Plan, state: RunState, step: PlannedWrite, names: readonly string[]): BrokenValue[] {
  return names.flatMap((name): BrokenValue[] => {
    const property = step.mapping.byName.get(name)
    const known = property && valueIn(plan, state, step, property)
    if (!property || !known) return []
    if (property.sensitive || known.isSensitive) return [{ property: name, value: null, masked: true }]
    return [{ property: name, value: shownRecord([property], [known.text])[name] }]
  })
}

function valueIn(
  { sensitiveParams }: Plan,
  state: RunState,
  { shape, mapping, loadedName }: PlannedWrite,
  property: Property,
): { text: string | null; isSensitive: boolean } | undefined {
  const value = shape.values.find((each) => each.property === property)
  if (value && 'text' in value) return { text: value.text, isSensitive: false }
  if (value) {
    const { expression } = value.expression
    if (expression.kind !== 'parameter') return undefined
    return { text: state.params.get(expression.name) ?? null, isSensitive: sensitiveParams.has(expression.name) }
  }
  const loaded = loadedName === null ? undefined : state.loaded.get(loadedName)
  if (!loaded || loaded.mapping !== mapping) return undefined
  return { text: loaded.texts[mapping.properties.indexOf(property)] ?? null, isSensitive: false }
}
