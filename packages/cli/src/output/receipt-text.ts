import colors from 'picocolors'
import type { BindReceipt, Receipt, RowReceipt, StepReceipt } from '@ledgerman/contract'
import { formatTable, formatValue } from './table.js'

/** What a run did, for people: the counts, each row's values before and after, and what beside them the database changed. */
export function formatReceipt(receipt: Receipt, options: { statement: boolean }): string {
  const parts = receipt.steps.flatMap((step) => [
    ...(options.statement ? [formatStatement(step)] : []),
    ...step.rows.map((row) => formatRow(row)),
  ])
  return [headline(receipt), ...parts].join('\n\n')
}

function headline({ outcome, steps, durationMs, reversible }: Receipt): string {
  const counts = steps
    .map(
      ({ expected, matched, changed }) => `expected ${expected}, matched ${matched ?? '–'}, changed ${changed ?? '–'}`,
    )
    .join('; ')
  const mark = {
    committed: colors.green('committed'),
    rehearsed: colors.cyan('rehearsed, nothing was kept'),
    refused: colors.red('refused, nothing was changed'),
  }[outcome]
  const extras = [
    durationMs === null ? '' : `${durationMs} ms`,
    outcome === 'committed' && reversible !== null ? `reversible: ${reversible}` : '',
  ].filter(Boolean)
  return `${mark}: ${counts}${extras.length > 0 ? `  (${extras.join(', ')})` : ''}`
}

function formatRow({ key, before, after, alsoChanged }: RowReceipt): string {
  const name = Object.values(key)
    .map((value) => formatValue(value))
    .join(', ')
  const lines = changes(before, after, '')
  if (alsoChanged) lines.push(...changes(alsoChanged.before, alsoChanged.after, 'by itself'))
  return `${colors.bold(name)}\n${indent(formatTable(['property', 'before', '', 'after', ''], lines, ['before']))}`
}

/** A line a property; a side that is not there at all (a record added or removed) stays empty. */
function changes(
  before: Record<string, unknown> | null,
  after: Record<string, unknown> | null,
  note: string,
): string[][] {
  const names = [...new Set([...Object.keys(before ?? {}), ...Object.keys(after ?? {})])]
  const side = (values: Record<string, unknown> | null, name: string) =>
    values === null ? '' : formatValue(values[name], 40)
  return names.map((name) => [name, side(before, name), '→', side(after, name), note === '' ? '' : colors.dim(note)])
}

/** The statement as it was run, and each bind beside its place in it. */
export function formatStatement({ statement, binds }: StepReceipt): string {
  return `${indent(statement)}\n\n${indent(formatBinds(binds))}`
}

/** Each bind beside its place in the statement. */
export function formatBinds(binds: readonly BindReceipt[]): string {
  const rows = binds.map(({ position, name, type, value }) => [
    `$${position}`,
    name,
    formatValue(value),
    colors.dim(type),
  ])
  return formatTable(['', 'bind', 'value', 'type'], rows)
}

export function indent(text: string): string {
  return text.replace(/^(?=.)/gm, '  ')
}
