import colors from 'picocolors'
import {
  printJson,
  toProblemDocument,
  type BrokenValue,
  type Finding,
  type LedgermanProblem,
  type Receipt,
  type RecordValues,
} from '@ledgerman/contract'
import { formatFinding } from './finding-text.js'
import { formatRecords } from './record-text.js'
import { formatTable, formatValue } from './table.js'
import { formatReceipt, indent } from './receipt-text.js'

/** A problem for people: its code, what is wrong and what to do; all sides where the record was changed meanwhile. */
export function formatProblem(problem: LedgermanProblem, width = 120): string {
  const { findings, definition } = problem.facts as { findings?: Finding[]; definition?: string }
  if (findings && findings.length > 0)
    return [`${colors.red(problem.code)}: ${whatDoesNotFit(definition)}`, ...findings.map(formatFinding)].join('\n')
  const lines = [`${colors.red(problem.code)}: ${problem.detail}`]
  if (problem.code === 'unauthenticated' && !problem.detail.includes('ledgerman login'))
    lines.push('To sign in: ledgerman login URL --token-file FILE')
  const { broken } = problem.facts as { broken?: BrokenValue[] }
  if (broken?.length) lines.push('', indent(formatTable(['property', 'would be'], broken.map(brokenLine))))
  if (problem.code === 'record-changed') lines.push(...formatConflict(problem, width))
  const { receipt } = problem.facts as { receipt?: Receipt }
  if (receipt && receipt.steps.length > 1)
    lines.push(
      '',
      indent(
        formatReceipt(
          { ...receipt, steps: receipt.steps.map((step) => ({ ...step, rows: [] })) },
          { statement: undefined },
        ),
      ),
    )
  const { candidates } = problem.facts as { candidates?: RecordValues[] }
  if (candidates) lines.push('', indent(formatRecords(candidates)))
  return lines.join('\n')
}

/** What the findings are of: what is to be published names itself in each of them. */
function whatDoesNotFit(definition: string | undefined): string {
  if (definition === undefined) return 'nothing was changed'
  return definition === 'steps' ? 'the steps do not fit' : `${definition} does not fit`
}

function brokenLine({ property, value, masked }: BrokenValue): string[] {
  return [property, masked ? colors.dim('not shown') : formatValue(value)]
}

/** What was loaded, what is wanted and what is there now, side by side; what is not known is said so. */
function formatConflict(problem: LedgermanProblem, width: number): string[] {
  const facts = problem.facts as Record<string, Record<string, unknown> | undefined>
  const { current, loaded = {}, by, tested } = facts
  const { yours = {} } = facts
  if (!current) return []
  const unknown = new Set((problem.facts['unknown'] as string[] | undefined) ?? [])
  const theirs = (problem.facts['theirs'] as string[] | undefined) ?? []
  const named = [...new Set([...Object.keys(tested ?? yours), ...theirs])]
  // A removal sets nothing: what there is to look at is the record itself.
  const names = named.length > 0 ? named : Object.keys(current)
  const mine = tested ?? yours
  const longest = longestValue(
    [tested ? {} : loaded, mine, current].map((values) =>
      names.filter((name) => name in values).map((name) => values[name]),
    ),
    width - Math.max(...names.map(({ length }) => length)) - (by && Object.keys(by).length > 0 ? WHO_WIDTH : 0),
  )
  const rows = names.map((name) => {
    const who = by?.[name] as { actor: string; at: string } | undefined
    const before = name in loaded && !unknown.has(name) ? formatValue(loaded[name], longest) : colors.dim('not known')
    return [
      name,
      ...(tested ? [] : [before]),
      ...(Object.keys(mine).length > 0 ? [name in mine ? formatValue(mine[name], longest) : ''] : []),
      name in current ? formatValue(current[name], longest) : colors.dim('not shown'),
      who ? colors.dim(`by ${who.actor}, ${who.at}`) : '',
    ]
  })
  const head = [
    'property',
    ...(tested ? [] : ['loaded']),
    ...(Object.keys(mine).length > 0 ? [tested ? 'tested' : 'yours'] : []),
    'current',
    '',
  ]
  const guard = problem.facts['guard']
  const { overlap } = problem.facts as { overlap?: string[] | null }
  return [
    '',
    indent(formatTable(head, rows)),
    ...(typeof guard === 'string' ? ['', `Its guard is now ${guard}.`] : []),
    ...(overlap?.length === 0
      ? [colors.dim('To apply yours to it as it is now: the same command with --if-changed reapply')]
      : []),
  ]
}

/** How wide who changed a property, and when, mostly is. */
const WHO_WIDTH = 40
const LEAST_WIDTH = 16

/** How long a value may be: any length where all columns fit beside one another, and an equal part of the width else. */
function longestValue(columns: readonly unknown[][], width: number): number {
  const left = width - 2 * (columns.length + 2)
  const widths = columns.map((values) => Math.max(0, ...values.map((value) => formatValue(value, Infinity).length)))
  const needed = widths.reduce((sum, each) => sum + each, 0)
  return needed <= left ? Infinity : Math.max(LEAST_WIDTH, Math.floor(left / columns.length))
}

/** The same as the service's own document, for programs. */
export function problemJson({ code, detail, facts }: LedgermanProblem): string {
  return printJson(toProblemDocument(code, detail, facts), 2)
}
