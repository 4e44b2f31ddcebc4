import colors from 'picocolors'
import type { Review, ReviewFinding } from '@ledgerman/contract'
import { countOf } from '@ledgerman/client'

const LEVEL_COLORS = { error: colors.red, warning: colors.yellow, note: colors.cyan }

/** How much of a line is shown. */
const WIDTH = 110

/** Findings by file, each with its line and a caret under its place. */
export function formatReview({ findings, summary }: Review, textOf: (path: string) => string[]): string {
  const open = findings.filter(({ accepted }) => accepted === undefined)
  const accepted = findings.filter((each) => each.accepted !== undefined)
  const paths = [...new Set(open.map(({ path }) => path))]
  const groups = paths.map(
    (path) =>
      `${colors.bold(path)}\n${open
        .filter((each) => each.path === path)
        .map((each) => formatFinding(each, textOf(path)))
        .join('\n')}`,
  )
  const known =
    accepted.length === 0
      ? []
      : [
          `${colors.dim('accepted')}\n${accepted.map(({ path, line, rule, accepted: why }) => colors.dim(`  ${path}:${line} ${rule}: ${why}`)).join('\n')}`,
        ]
  const counts = (['error', 'warning', 'note'] as const)
    .filter((level) => summary[level] > 0)
    .map((level) => LEVEL_COLORS[level](countOf(summary[level], level)))
  const read = `${countOf(summary.statements, 'statement')} in ${countOf(summary.files, 'file')}`
  return [
    ...groups,
    ...known,
    `${counts.length === 0 ? colors.green('nothing found') : counts.join(', ')} · ${read}`,
  ].join('\n\n')
}

function formatFinding(
  { rule, level, line, column, endLine, endColumn, message, why, instead }: ReviewFinding,
  lines: string[],
): string {
  const text = (lines[line - 1] ?? '').replaceAll('\t', ' ')
  const indent = text.length - text.trimStart().length
  const from = text.length - indent <= WIDTH ? indent : Math.max(0, Math.min(column - 1, text.length) - 50)
  const shown = text.slice(from, from + WIDTH)
  const width = Math.max(1, (endLine === line ? endColumn : text.length + 1) - column)
  const carets = '^'.repeat(Math.min(width, Math.max(1, shown.length - (column - 1 - from))))
  const number = `  ${String(line).padStart(4)} `
  return [
    `  ${LEVEL_COLORS[level](level)} ${colors.bold(rule)}  ${message}`,
    `${colors.dim(number)}${shown}`,
    `${' '.repeat(number.length + Math.max(0, column - 1 - from))}${LEVEL_COLORS[level](carets)}`,
    colors.dim(`       ${why}`),
    ...(instead === null ? [] : [`       instead: ${inOneLine(instead).slice(0, 300)}`]),
    '',
  ].join('\n')
}

function inOneLine(text: string): string {
  return text
    .split('\n')
    .map((line) => line.trim())
    .filter(Boolean)
    .join(' ')
}
