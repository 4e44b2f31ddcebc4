import { LedgermanProblem } from '@ledgerman/contract'

/** The problem for a place in an expression: what was expected there, what may have been meant, and a caret under it. */
export function expressionProblem(source: string, at: number, message: string, advice?: string): LedgermanProblem {
  const start = source.lastIndexOf('\n', at - 1) + 1
  const end = source.indexOf('\n', at)
  const line = source.slice(start, end < 0 ? undefined : end)
  const excerpt = around(line, at - start)
  const words = advice === undefined ? withPlace(message, at) : `${message} at character ${at + 1}. ${advice}`
  return new LedgermanProblem('expression-invalid', `${words}\n${excerpt}`, {
    where: 'expression',
    position: at + 1,
    expected: message,
    excerpt,
  })
}

/** A message with its place: behind what is wrong, and before what may have been meant. */
export function withPlace(message: string, at: number): string {
  const [, what = message, hint] =
    /^([\s\S]*?)\. ((?:Did you mean|Valid names|There are)\b[\s\S]*)$/.exec(message) ?? []
  const place = `at character ${at + 1}`
  return hint === undefined ? `${what}, ${place}:` : `${what} ${place}. ${hint}`
}

/** How much of a line is shown on either side of the place. */
const SHOWN = 200

function around(line: string, at: number): string {
  const from = at > SHOWN ? at - SHOWN : 0
  const to = Math.min(line.length, at + SHOWN)
  const [before, behind] = [from > 0 ? '…' : '', to < line.length ? '…' : '']
  return `${before}${line.slice(from, to)}${behind}\n${' '.repeat([...(before + line.slice(from, at))].length)}^`
}
