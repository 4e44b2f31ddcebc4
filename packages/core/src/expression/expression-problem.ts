import { LedgermanProblem } from '@ledgerman/contract'

/** The problem for a place in an expression: what was expected there, with a caret under it. */
export function expressionProblem(source: string, at: number, message: string): LedgermanProblem {
  const start = source.lastIndexOf('\n', at - 1) + 1
  const end = source.indexOf('\n', at)
  const line = source.slice(start, end < 0 ? undefined : end)
  const excerpt = around(line, at - start)
  return new LedgermanProblem('expression-invalid', `${message}, at character ${at + 1}:\n${excerpt}`, {
    where: 'expression',
    position: at + 1,
    expected: message,
    excerpt,
  })
}

/** How much of a line is shown on either side of the place. */
const SHOWN = 200

function around(line: string, at: number): string {
  const from = at > SHOWN ? at - SHOWN : 0
  const to = Math.min(line.length, at + SHOWN)
  const [before, behind] = [from > 0 ? '…' : '', to < line.length ? '…' : '']
  return `${before}${line.slice(from, to)}${behind}\n${' '.repeat([...(before + line.slice(from, at))].length)}^`
}
