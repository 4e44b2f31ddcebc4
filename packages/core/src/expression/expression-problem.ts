import { LedgermanProblem } from '@ledgerman/contract'

/** The problem for a place in an expression: what was expected there, with a caret under it. */
export function expressionProblem(source: string, at: number, message: string): LedgermanProblem {
  const start = source.lastIndexOf('\n', at - 1) + 1
  const end = source.indexOf('\n', at)
  const line = source.slice(start, end < 0 ? undefined : end)
  const excerpt = `${line}\n${' '.repeat([...source.slice(start, at)].length)}^`
  return new LedgermanProblem('expression-invalid', `${message}, at character ${at + 1}:\n${excerpt}`, {
    where: 'expression',
    position: at + 1,
    expected: message,
    excerpt,
  })
}
