import type { Json, Receipt, StepReceipt } from '@ledgerman/contract'
import { decimalsOf, decimalsOfText, type DecimalsOf } from '../values/expression/decimals.js'
import type { Expression } from '../values/expression/expression.js'
import type { ColumnType } from '../values/column-type.js'
import { isWrite, type Plan, type PlannedWrite } from './plan.js'

export type Roundings = NonNullable<Receipt['rounded']>

/**
 * The computed values that their columns can round: what an expression gives with these parameters can have more decimals, digits of a
 * second or fields of an interval than its column keeps. PostgreSQL rounds it without a word, so the receipt says so.
 */
export function roundingsOf(plan: Plan, params: Readonly<Record<string, Json>>): Roundings {
  return plan.steps.filter(isWrite).flatMap((step) =>
    step.shape.values.flatMap((value) => {
      if (!('expression' in value)) return []
      const { property } = value
      const { type } = property.column
      const { expression } = value.expression
      return isRounded(expression, type, plan, step, params)
        ? [{ step: step.no, property: property.name, to: type.sql }]
        : []
    }),
  )
}

function isRounded(
  expression: Expression,
  type: ColumnType,
  plan: Plan,
  step: PlannedWrite,
  params: Readonly<Record<string, Json>>,
): boolean {
  if (type.fractionDigits !== null || type.intervalFields !== null)
    return expression.kind === 'path' ? !holdsTimeOf(type, typeOfPath(expression, plan, step)) : !isWhole(expression)
  // Of a list each element is rounded, and what it was made of is not looked into.
  if (type.element && (type.element.precision ?? type.element.fractionDigits) !== null)
    return expression.kind !== 'path' || typeOfPath(expression, plan, step)?.sql !== type.sql
  const kept = decimalsKept(type)
  if (kept === null) return false
  if (type.kind === 'float') return !isCopied(expression)
  return decimalsOf(expression, decimalsOfNames(plan, step, params)) > kept
}

/** Whether it gives points in time without a part of a second: a date, or what is cut off to something longer. */
function isWhole(expression: Expression): boolean {
  if (expression.kind === 'cast') return expression.type.toLowerCase() === 'date'
  const unit = expression.kind === 'call' && expression.name === 'date_trunc' ? expression.args[0] : undefined
  return unit?.kind === 'literal' && !/^m(illi|icro)s/i.test(unit.text)
}

/** Whether a column keeps every digit and field of a point or span of time that another column holds. */
function holdsTimeOf(kept: ColumnType, given: ColumnType | undefined): boolean {
  if (given === undefined) return false
  if (given.kind === 'date') return true
  const digits = ({ fractionDigits }: ColumnType) => fractionDigits ?? 6
  return digits(given) <= digits(kept) && [null, given.intervalFields].includes(kept.intervalFields)
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
  if (kind === 'money') return 2
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
    const type = typeOfPath(node, plan, step)
    return type ? (decimalsKept(type) ?? Infinity) : Infinity
  }
}

/** The type of a property of the step's record, or of a loaded one; undefined of one over a link. */
function typeOfPath(
  { names: [first = '', second] }: Extract<Expression, { kind: 'path' }>,
  plan: Plan,
  step: PlannedWrite,
): ColumnType | undefined {
  const loaded = plan.steps.find(({ as }) => as === first)
  const mapping = second === undefined ? step.mapping : loaded && 'mapping' in loaded ? loaded.mapping : undefined
  return mapping?.byName.get(second ?? first)?.column.type
}
