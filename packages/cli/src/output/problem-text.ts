import colors from 'picocolors'
import {
  printJson,
  toProblemDocument,
  type Finding,
  type LedgermanProblem,
  type Receipt,
  type RecordValues,
} from '@ledgerman/contract'
import { formatFinding } from './finding-text.js'
import { formatRecords } from './record-text.js'
import { formatTable, formatValue } from './table.js'
import { formatReceipt, indent } from './receipt-text.js'

/** A problem for people: its code, what is wrong and what to do; both sides where somebody else was faster. */
export function formatProblem(problem: LedgermanProblem): string {
  const { findings } = problem.facts as { findings?: Finding[] }
  if (findings && findings.length > 0)
    return [`${colors.red(problem.code)}: nothing was changed`, ...findings.map(formatFinding)].join('\n')
  const lines = [`${colors.red(problem.code)}: ${problem.detail}`]
  if (problem.code === 'unauthenticated' && !problem.detail.includes('ledgerman login'))
    lines.push('To sign in: ledgerman login URL --token-file FILE')
  const { yours, current, loaded, by } = problem.facts as Record<string, Record<string, unknown> | undefined>
  if (problem.code === 'record-changed' && yours && current) {
    const names = [...new Set([...Object.keys(yours), ...((problem.facts['theirs'] as string[] | undefined) ?? [])])]
    const rows = names.map((name) => {
      const who = by?.[name] as { actor: string; at: string } | undefined
      const mine = name in yours ? formatValue(yours[name], 40) : ''
      return [
        name,
        formatValue(loaded?.[name], 40),
        mine,
        formatValue(current[name], 40),
        who ? colors.dim(`by ${who.actor}, ${who.at}`) : '',
      ]
    })
    lines.push(
      '',
      indent(formatTable(['property', 'loaded', 'yours', 'current', ''], rows)),
      '',
      `Its guard is now ${String(problem.facts['guard'])}.`,
    )
    const { overlap } = problem.facts as { overlap?: string[] | null }
    if (overlap?.length === 0)
      lines.push(colors.dim('To apply yours to it as it is now: the same command with --on-conflict reapply'))
  }
  const { receipt } = problem.facts as { receipt?: Receipt }
  if (receipt && receipt.steps.length > 1)
    lines.push(
      '',
      indent(
        formatReceipt(
          { ...receipt, steps: receipt.steps.map((step) => ({ ...step, rows: [] })) },
          { statement: false },
        ),
      ),
    )
  const { candidates } = problem.facts as { candidates?: RecordValues[] }
  if (candidates) lines.push('', indent(formatRecords(candidates)))
  return lines.join('\n')
}

/** The same as the service's own document, for programs. */
export function problemJson({ code, detail, facts }: LedgermanProblem): string {
  return printJson(toProblemDocument(code, detail, facts), 2)
}
