import type { Review, ReviewFinding } from '@ledgerman/contract'

/** One edit of a text: what stands between two places, and what comes there. */
export interface Edit {
  from: number
  to: number
  text: string
}

/** How a finding is put right in its file; undefined where its proposal is not just another text for the same place. */
export function editFor(source: string, finding: ReviewFinding, { statements }: Review): Edit | undefined {
  const { instead, rule, line, column } = finding
  if (instead === null || instead.includes('…')) return undefined
  const at = offsetOf(source, line, column)
  if (rule === 'null-comparison') {
    const compared = /^(?:=|<>|!=)\s*null\b/i.exec(source.slice(at, at + 100))
    return compared ? { from: at, to: at + compared[0].length, text: instead } : undefined
  }
  if (rule === 'parameter-count' && /^\(.*,\)$/s.test(instead)) {
    const plain = `(${instead.slice(1, -2)})`
    const from = source.indexOf(plain, at)
    return from < 0 ? undefined : { from, to: from + plain.length, text: instead }
  }
  const statement = finding.statement === null ? undefined : statements[finding.statement]
  if (!statement || !/^\s*(?:update|delete|insert|select|with)\b/i.test(instead)) return undefined
  const from = source.indexOf(statement.text, offsetOf(source, statement.line, 1))
  return from < 0 ? undefined : { from, to: from + statement.text.length, text: instead }
}

export function applyEdit(source: string, { from, to, text }: Edit): string {
  return source.slice(0, from) + text + source.slice(to)
}

function offsetOf(source: string, line: number, column: number): number {
  let at = 0
  for (let number = 1; number < line; number++) {
    const end = source.indexOf('\n', at)
    if (end < 0) return source.length
    at = end + 1
  }
  return Math.min(at + Math.max(0, column - 1), source.length)
}
