import type { Expectation } from '@ledgerman/contract'
import type { Property } from '../../mapping/mapping.js'
import { isWrite, type PlannedStep, type PlannedWrite } from '../plan.js'
import type { Slot } from '../../statement/statement.js'
import { isSentAsCast, wireTextSql } from '../../values/wire-sql.js'

/** How many rows of a step the statement gives back; the book has them all. */
export const ROWS_GIVEN = 100

/** How many texts the counts have for each step: rows matched and changed, whether it was skipped, milliseconds. */
export const COUNTS_A_STEP = 4

/** Whether an image says all that is told of a row that the step wrote: nobody names its other values. */
export function isLeanlyGiven(step: PlannedWrite): boolean {
  const isPlain = (property: Property) => !property.sensitive && isSentAsCast(property.column.type)
  return isUnnamed(step) && [...step.mapping.key, ...step.touched].every(isPlain)
}

/** Whether nobody looks at the values of a row that the step wrote, but for those that its image has. */
export function isUnnamed({ as, mapping }: PlannedWrite): boolean {
  return as === null && mapping.rules.length === 0
}

/** Whether a bind's value comes from an earlier step, and so is known to the statement only. */
export function isLateBind(step: PlannedStep, { source }: Slot): boolean {
  return (
    source.from === 'outcome' ||
    source.from === 'loaded' ||
    (source.from === 'guard' && isWrite(step) && step.guards === 'loaded')
  )
}

export const NO_RULE = 'null::integer'

/** True, or the end of the statement: it raises. */
export function refuseUnless(verdict: string, what: string): string {
  return `case when ${verdict} then true else ledgerman.refuse('${what}') end`
}

/** Whether a count is one that was expected, as `isExpected` has it. */
export function fitsSql(expect: Expectation | null, count: string): string {
  if (typeof expect === 'number') return `${count} = ${expect}`
  switch (expect) {
    case 'one':
      return `${count} = 1`
    case 'none':
      return `${count} = 0`
    case 'some':
      return `${count} >= 1`
    case 'any':
    case null:
      return 'true'
  }
  const [least = '', most = ''] = expect.includes('..') ? expect.split('..') : [expect, expect]
  return `${count} >= ${Number(least || 0)}${most === '' ? '' : ` and ${count} <= ${Number(most)}`}`
}

/** The values of the row under an alias as texts, as they are sent. */
export function wireTexts(alias: string, properties: readonly Property[]): string[] {
  return properties.map(({ column }) => wireTextSql(`${alias}.${column.sql}`, column.type))
}

/** A condition as a boolean is sent. */
export function wireBoolean(condition: string): string {
  return `case when ${condition} then 't' else 'f' end`
}
