import { parametersOf } from '../values/expression/expression.js'
import { parseExpression } from '../values/expression/parse.js'

/**
 * The parameters that these expressions name.
 *
 * @throws LedgermanProblem expression-invalid
 */
export function namedParams(sources: readonly string[]): Set<string> {
  return new Set(sources.flatMap((source) => [...parametersOf(parseExpression(source))]))
}
