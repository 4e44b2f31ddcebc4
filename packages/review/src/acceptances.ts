import type { ReviewFinding } from '@ledgerman/contract'

/** A comment that accepts a finding: `ledgerman: accept RULE because …`, on its line, on those before it, or at the statement's end. */
const ACCEPTANCE = /ledgerman:\s*accept\s+([a-z-]+)\s+because\s([^\n*]+)/

const LINES_BEFORE = 3

/** Marks the findings that a comment beside them accepts. */
export function accepted(findings: readonly ReviewFinding[], text: string): ReviewFinding[] {
  if (!text.includes('ledgerman:')) return [...findings]
  const lines = text.split('\n')
  return findings.map((each) => {
    for (let line = Math.min(each.endLine, lines.length); line >= Math.max(1, each.line - LINES_BEFORE); line--) {
      const [, rule, words = ''] = ACCEPTANCE.exec(lines[line - 1] ?? '') ?? []
      const why = words.trim().replace(/-->$/, '').trim()
      if (rule === each.rule && why !== '') return { ...each, accepted: why }
    }
    return each
  })
}
