import { parametersOf } from '../values/expression/expression.js'
import { parseExpression } from '../values/expression/parse.js'
import type { NamedExpression } from './record-scope.js'

/**
 * Reads the condition of a request, where it has one.
 *
 * @throws LedgermanProblem expression-invalid
 */
export function parseCondition(source: string | undefined): NamedExpression | null {
  if (source === undefined || source.trim() === '') return null
  return { label: 'where', source, expression: parseExpression(source) }
}

/** The parameters that a condition names; none where there is no condition. */
export function conditionParameters(where: NamedExpression | null): ReadonlySet<string> {
  return where ? parametersOf(where.expression) : new Set()
}
