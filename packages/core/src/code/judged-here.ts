import type { Statement } from '../statement/statement.js'
import { quoted } from './text.js'

/** Two bound values, compared, as `compileExpression` writes it: `coalesce(($1::numeric >= $2::numeric), false)`. */
const COMPARISON =
  /^coalesce\(\(\$(\d+)::(smallint|integer|bigint|numeric|text) (=|<>|<|<=|>|>=) \$(\d+)::(smallint|integer|bigint|numeric|text)\), false\)$/

/** Whether written code judges a statement's condition itself, and never sends the statement. */
export function isJudgedHere({ text, slots }: Statement): boolean {
  const binds = slots.map(({ name }) => name)
  return judgedHere(text.replace(/^select /, ''), binds) !== null
}

/**
 * The code of a condition that a program judges as PostgreSQL does, without a way to it: exact numbers compared, or texts that are
 * the same or not. What a collation orders, and all else, PostgreSQL judges.
 *
 * @param sql the condition, of which nothing but a comparison is known here
 * @param binds the code of each value that it binds, in order
 * @returns null where it has to be asked
 */
export function judgedHere(sql: string, binds: readonly string[]): string | null {
  const [, left, leftType, operator, right, rightType] = COMPARISON.exec(sql) ?? []
  if (operator === undefined) return null
  const [one, other] = [binds[Number(left) - 1], binds[Number(right) - 1]]
  const areTexts = leftType === 'text'
  if (one === undefined || other === undefined || areTexts !== (rightType === 'text')) return null
  if (areTexts && operator !== '=' && operator !== '<>') return null
  return `s.${areTexts ? 'textsAre' : 'numbersAre'}(${one}, ${quoted(operator)}, ${other})`
}
