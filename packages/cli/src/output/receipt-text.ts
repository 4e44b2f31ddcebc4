import colors from 'picocolors'
import { wayBackOf, type BindReceipt, type Receipt, type RowReceipt, type StepReceipt } from '@ledgerman/contract'
import { countOf, keyToText } from '@ledgerman/client'
import type { StatementForm } from '../commands/statement-option.js'
import { formatBeside } from './beside-text.js'
import { formatDifferences } from './differences-text.js'
import { moreRows } from './more-rows.js'
import { formatRoundings } from './roundings-text.js'
import { formatDifference, formatTable, formatValue } from './table.js'

/** How much of a receipt is shown. */
export interface ReceiptText {
  /** In which form statements are shown; undefined for not at all. */
  statement: StatementForm | undefined
  /** Whether all rows and whole values are shown. */
  full?: boolean
  /** Columns of the terminal. */
  width?: number
}

/** The same, with the entry that holds its rows, where it was committed. */
interface StepText extends ReceiptText {
  entries: readonly string[]
  /** Whether rows of several mappings are shown, so that each has to say its own. */
  namesMapping: boolean
}

/** What a run did, for people: the counts, each row's values before and after, and what beside them the database changed. */
export function formatReceipt(receipt: Receipt, text: ReceiptText): string {
  const written = receipt.steps.flatMap(({ kind, mapping, rows }) =>
    kind === 'load' || rows.length === 0 ? [] : [mapping],
  )
  const entries = receipt.outcome === 'committed' ? [receipt.id] : []
  const options = { ...text, entries, namesMapping: new Set(written).size > 1 }
  const isRun = receipt.steps.length > 1 || receipt.transaction !== null
  const shown = options.full ? receipt.steps : receipt.steps.slice(0, SHOWN_STEPS)
  const more = receipt.steps.length - shown.length
  const parts = isRun
    ? [
        `${formatSteps(shown)}${more === 0 ? '' : `\n${colors.dim(`… and ${countOf(more, 'more step')}; --full shows all`)}`}`,
        ...shown.flatMap((step) => [
          ...(options.statement ? [colors.bold(`Step ${step.no}, ${nameOf(step)}`)] : []),
          ...formatStepParts(step, options),
        ]),
      ]
    : receipt.steps.flatMap((step) => formatStepParts(step, options))
  const isShort = options.statement === 'short' && receipt.steps.some(({ short }) => short !== undefined)
  const form = isShort ? [colors.dim('Statements in short; --statement=whole shows all that is run.')] : []
  return [
    isRun ? runHeadline(receipt) : headline(receipt),
    ...parts,
    ...formatRoundings(receipt.rounded),
    ...formatBeside(receipt),
    ...form,
  ].join('\n\n')
}

function headline(receipt: Receipt): string {
  const { outcome, steps, replayed } = receipt
  const counts = steps
    .map(
      ({ expected, matched, changed }) => `expected ${expected}, matched ${matched ?? '–'}, changed ${changed ?? '–'}`,
    )
    .join('; ')
  return `${outcomeOf(outcome, replayed)}: ${counts}${extras(receipt)}`
}

function runHeadline(receipt: Receipt): string {
  const { outcome, transaction, revision, attempts, replayed, reverses } = receipt
  const what = reverses ? `reversal of ${countOf(reverses.length, 'entry', 'entries')}` : 'steps'
  const name = transaction === null ? what : `${transaction}, revision ${revision}`
  return `${outcomeOf(outcome, replayed)}: ${name}${attempts > 1 ? `, on attempt ${attempts}` : ''}${extras(receipt)}`
}

function outcomeOf(outcome: Receipt['outcome'], replayed: boolean): string {
  return replayed
    ? colors.green('committed before, with the same idempotency key; nothing was done now')
    : OUTCOMES[outcome]()
}

const OUTCOMES = {
  committed: () => colors.green('committed'),
  rehearsed: () => colors.cyan('rehearsed, rolled back'),
  refused: () => colors.red('refused, nothing was changed'),
}

function extras(receipt: Receipt): string {
  const { durationMs } = receipt
  const wayBack = wayBackOf(receipt)
  const list = [durationMs === null ? '' : `${durationMs} ms`, wayBack === null ? '' : `reversible: ${wayBack}`].filter(
    Boolean,
  )
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

function formatStepParts(step: StepReceipt, options: StepText): string[] {
  const most = options.full ? Infinity : SHOWN_ROWS
  const left = step.leftOut?.length
    ? [`${colors.yellow('left out, held by others')}: ${step.leftOut.map((key) => keyToText(key)).join(' · ')}`]
    : []
  return [
    ...(options.statement ? [formatStatement(step, options.statement)] : []),
    ...(step.kind === 'load' ? [] : formatRows(step, most, options)),
    ...(step.kind === 'load' ? [] : moreRows(step.rows.length, most, step.changed ?? 0, options.entries)),
    ...left,
  ]
}

/** One row is told property by property; many are a table, a line a row. */
function formatRows({ mapping, rows }: StepReceipt, most: number, options: StepText): string[] {
  const of = options.namesMapping && mapping !== null ? colors.bold(mapping) : ''
  if (rows.length > 1) {
    const table = formatDifferences(rows, most, options.full ?? false)
    return [of === '' ? table : `${of}\n${indent(table)}`]
  }
  return rows.map((row) => `${of === '' ? '' : `${of} `}${formatRow(row, options)}`)
}

/** How many steps are shown: a reversal has as many as its entries had. */
const SHOWN_STEPS = 25

/** How many rows of a step are shown one by one. */
const SHOWN_ROWS = 10

function formatRow({ key, before, after, alsoChanged }: RowReceipt, options: ReceiptText): string {
  const longest = options.full ? Infinity : sideWidth(options.width, [before, after, alsoChanged?.before ?? null])
  const name = Object.values(key)
    .map((value) => formatValue(value))
    .join(', ')
  const lines = changes(before, after, '', longest)
  if (alsoChanged) lines.push(...changes(alsoChanged.before, alsoChanged.after, 'automatic', longest))
  return `${colors.bold(name)}\n${indent(formatTable(['property', 'before', '', 'after', ''], lines, ['before']))}`
}

/** How many columns each side of a difference may have. */
function sideWidth(width = 120, sides: readonly (Record<string, unknown> | null)[]): number {
  const names = sides.flatMap((side) => Object.keys(side ?? {}))
  const rest = width - Math.max(8, ...names.map((name) => name.length)) - 2 - 2 - 3 - 2 - 'automatic'.length - 2
  return Math.max(24, Math.floor(rest / 2))
}

/** A line a property; a side that is not there at all (a record added or removed) stays empty. */
function changes(
  before: Record<string, unknown> | null,
  after: Record<string, unknown> | null,
  note: string,
  longest: number,
): string[][] {
  const names = [...new Set([...Object.keys(before ?? {}), ...Object.keys(after ?? {})])]
  return names.map((name) => {
    const [old, now] =
      before && after
        ? formatDifference(before[name], after[name], longest)
        : [before ? formatValue(before[name], longest) : '', after ? formatValue(after[name], longest) : '']
    return [name, old, '→', now, note === '' ? '' : colors.dim(note)]
  })
}

/** The statement, and each bind beside its place in it: in short, or as it was run. */
function formatStatement({ statement, binds, short }: StepReceipt, form: StatementForm): string {
  if (form === 'whole' || !short) return formatWhole(statement, binds)
  const around = short.around.map((words) => colors.dim(words)).join('\n')
  return [formatWhole(short.statement, short.binds), ...(around === '' ? [] : [indent(around)])].join('\n\n')
}

function formatWhole(statement: string, binds: readonly BindReceipt[]): string {
  return binds.length === 0 ? indent(statement) : `${indent(statement)}\n\n${indent(formatBinds(binds, statement))}`
}

/** Each bind beside its place in the statement. */
export function formatBinds(binds: readonly BindReceipt[], statement: string): string {
  const rows = binds.map(({ position, name, type, value }) => [
    placeOf(statement, position, name),
    name,
    formatValue(value),
    colors.dim(type),
  ])
  return formatTable(['', 'bind', 'value', 'type'], rows)
}

/** How the place of a bind is written in this statement; its number where all places look alike. */
function placeOf(statement: string, position: number, name: string): string {
  const written = [`$${position}`, `%(${name})s`, `@${name}`, `:${name}`]
  return written.find((each) => standsIn(statement, each)) ?? String(position)
}

/** Whether a placeholder stands in a statement, as no part of anything longer: `:text` is none of `?::text`. */
function standsIn(statement: string, placeholder: string): boolean {
  const parts = statement.split(placeholder)
  return parts.some(
    (before, at) =>
      at < parts.length - 1 && !/[\p{ID_Continue}:@$]$/u.test(before) && !/^\p{ID_Continue}/u.test(parts[at + 1] ?? ''),
  )
}

export function indent(text: string): string {
  return text.replace(/^(?=.)/gm, '  ')
}
