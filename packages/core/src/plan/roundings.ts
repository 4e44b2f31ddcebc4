import type { Json, Receipt, StepReceipt } from '@ledgerman/contract'
import { decimalsOf, decimalsOfText, type DecimalsOf } from '../expression/decimals.js'
import type { Expression } from '../expression/expression.js'
import type { ColumnType } from '../values/column-type.js'
import { isWrite, type Plan, type PlannedWrite } from './plan.js'

export type Roundings = NonNullable<Receipt['rounded']>

/**
 * The computed values that their columns can round: what an expression gives with these parameters can have more decimals
 * than its column keeps. PostgreSQL rounds it without a word, so the receipt says so.
 */
export function roundingsOf(plan: Plan, params: Readonly<Record<string, Json>>): Roundings {
  return plan.steps.filter(isWrite).flatMap((step) =>
    step.shape.values.flatMap((value) => {
      if (!('expression' in value)) return []
      const { property } = value
      const kept = decimalsKept(property.column.type)
      if (kept === null) return []
      const { expression } = value.expression
      const isRounded =
        property.column.type.kind === 'float'
          ? !isCopied(expression)
          : decimalsOf(expression, decimalsOfNames(plan, step, params)) > kept
      return isRounded ? [{ step: step.no, property: property.name, to: property.column.type.sql }] : []
    }),
  )
}

/** Of what a run can round, that which belongs to steps that changed anything. */
export function roundedBy(steps: readonly StepReceipt[], roundings: Roundings = []): Pick<Receipt, 'rounded'> {
  const rounded = roundings.filter(({ step }) => (steps.find(({ no }) => no === step)?.changed ?? 0) > 0)
  return rounded.length === 0 ? {} : { rounded }
}

/** How many decimals a column keeps; null where it keeps all, or is no number. A `real` keeps digits, not decimals. */
function decimalsKept({ kind, precision, name }: ColumnType): number | null {
  if (kind === 'integer' || kind === 'bigint') return 0
  if (kind === 'numeric') return precision?.scale ?? null
  return kind === 'float' && name === 'float4' ? 0 : null
}

function isCopied({ kind }: Expression): boolean {
  return kind === 'path' || kind === 'literal' || kind === 'parameter'
}

function decimalsOfNames(plan: Plan, step: PlannedWrite, params: Readonly<Record<string, Json>>): DecimalsOf {
  return (node) => {
    if (node.kind === 'parameter') {
      const value = params[node.name] ?? plan.params.get(node.name)?.default ?? null
      return value === null ? 0 : typeof value === 'object' ? Infinity : decimalsOfText(String(value))
    }
    const [first = '', second] = node.names
    const loaded = plan.steps.find(({ as }) => as === first)
    const mapping = second === undefined ? step.mapping : loaded && 'mapping' in loaded ? loaded.mapping : undefined
    const type = mapping?.byName.get(second ?? first)?.column.type
    return type ? (decimalsKept(type) ?? Infinity) : Infinity
  }
}
