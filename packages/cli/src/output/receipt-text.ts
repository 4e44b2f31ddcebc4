import colors from 'picocolors'
import type { BindReceipt, Receipt, RowReceipt, StepReceipt } from '@ledgerman/contract'
import { formatTable, formatValue } from './table.js'

/** What a run did, for people: the counts, each row's values before and after, and what beside them the database changed. */
export function formatReceipt(receipt: Receipt, options: { statement: boolean }): string {
  const isRun = receipt.steps.length > 1 || receipt.transaction !== null
  const parts = isRun
    ? [
        formatSteps(receipt.steps),
        ...receipt.steps.flatMap((step) => [
          ...(options.statement ? [colors.bold(`Step ${step.no}, ${nameOf(step)}`)] : []),
          ...formatStepParts(step, options),
        ]),
      ]
    : receipt.steps.flatMap((step) => formatStepParts(step, options))
  return [isRun ? runHeadline(receipt) : headline(receipt), ...parts].join('\n\n')
}

function headline({ outcome, steps, durationMs, reversible }: Receipt): string {
  const counts = steps
    .map(
      ({ expected, matched, changed }) => `expected ${expected}, matched ${matched ?? '–'}, changed ${changed ?? '–'}`,
    )
    .join('; ')
  return `${OUTCOMES[outcome]()}: ${counts}${extras({ outcome, durationMs, reversible })}`
}

function runHeadline({ outcome, transaction, revision, durationMs, reversible, attempts }: Receipt): string {
  const name = transaction === null ? 'steps' : `${transaction}, revision ${revision}`
  return `${OUTCOMES[outcome]()}: ${name}${attempts > 1 ? `, at the ${attempts}. attempt` : ''}${extras({ outcome, durationMs, reversible })}`
}

const OUTCOMES = {
  committed: () => colors.green('committed'),
  rehearsed: () => colors.cyan('rehearsed, nothing was kept'),
  refused: () => colors.red('refused, nothing was changed'),
}

function extras({ outcome, durationMs, reversible }: Pick<Receipt, 'outcome' | 'durationMs' | 'reversible'>): string {
  const list = [
    durationMs === null ? '' : `${durationMs} ms`,
    outcome === 'committed' && reversible !== null ? `reversible: ${reversible}` : '',
  ].filter(Boolean)
  return list.length > 0 ? `  (${list.join(', ')})` : ''
}

/** A line a step: what it did, how many rows it expected, matched and changed. */
function formatSteps(steps: readonly StepReceipt[]): string {
  const rows = steps.map(({ no, kind, mapping, as, skipped, expected, matched, changed, durationMs }) => [
    String(no),
    nameOf({ kind, mapping }),
    as ?? '',
    kind === 'require' ? (skipped ? '' : matched === 1 ? 'true' : colors.red('not true')) : skipped ? '' : expected,
    skipped ? colors.dim('skipped') : kind === 'require' ? '' : String(matched ?? '–'),
    skipped || kind === 'require' || kind === 'load' ? '' : String(changed ?? '–'),
    durationMs === null ? '' : colors.dim(`${durationMs} ms`),
  ])
  return formatTable(['', 'step', 'as', 'expected', 'matched', 'changed', ''], rows, ['matched', 'changed'])
}

function nameOf({ kind, mapping }: Pick<StepReceipt, 'kind' | 'mapping'>): string {
  return mapping === null ? kind : `${kind} ${mapping}`
}

function formatStepParts(step: StepReceipt, options: { statement: boolean }): string[] {
  const left = step.leftOut?.length
    ? [
        `${colors.yellow('left out, held by others')}: ${step.leftOut.map((key) => Object.values(key).join(', ')).join(' · ')}`,
      ]
    : []
  return [
    ...(options.statement ? [formatStatement(step)] : []),
    ...(step.kind === 'load' ? [] : step.rows.slice(0, SHOWN_ROWS).map((row) => formatRow(row))),
    ...(step.kind !== 'load' && (step.changed ?? 0) > SHOWN_ROWS
      ? [colors.dim(`… and ${(step.changed ?? 0) - SHOWN_ROWS} more rows`)]
      : []),
    ...left,
  ]
}

/** How many rows of a step are shown one by one. */
const SHOWN_ROWS = 10

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
