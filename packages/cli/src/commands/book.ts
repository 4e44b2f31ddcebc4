import colors from 'picocolors'
import { Option, type Command } from 'commander'
import type { TargetClient } from '@ledgerman/client'
import { LedgermanProblem, type EntryInfo, type EntrySummary, type Job, type Receipt } from '@ledgerman/contract'
import { keyToText, countOf } from '@ledgerman/client'
import { statementOption, type StatementForm } from './statement-option.js'
import { styleOption } from './style-option.js'
import type { CommandContext } from '../command-context.js'
import { formatHistory } from '../output/history-text.js'
import { formatReceipt, indent } from '../output/receipt-text.js'
import { formatTable, formatValue } from '../output/table.js'
import { writeLines } from '../output/write-lines.js'
import { addBookKeeping } from './book-keeping.js'
import { addBookTrust } from './book-trust.js'
import { followJob } from './follow-job.js'
import { modeOf, refuseFlags } from './write-flags.js'
import { readMoment, readPlace } from '../read-moment.js'
import { wholeNumber } from '../whole-number.js'

export function addBook(program: Command, context: CommandContext): void {
  const book = program
    .command('book')
    .description('The book of a target: what was changed, by whom, and how it was before.')

  book
    .command('list')
    .description('List entries, the newest first.')
    .option('--limit <entries>', 'at most 1000', '20')
    .option('--after <entry>', 'the next page: the last entry of the page before')
    .option(
      '--outcome <outcome>',
      'only committed, only refused, or only those refused with one code, such as rule-broken',
    )
    .option('--actor <name>', 'only those of one actor')
    .option('--mapping <mapping>', 'only those of one mapping')
    .option('--transaction <name>', 'only runs of one transaction')
    .option('--from <moment>', 'only those since then, such as 2026-02-03 or 2026-02-03T21:00:00Z', readMoment)
    .option('--until <moment>', 'only those before then', readMoment)
    .option('--key <value...>', 'only those of one record; needs --mapping')
    .addHelpText(
      'after',
      `\nExamples:\n  ledgerman book list\n  ledgerman book list --mapping programme --key P-107 --outcome committed`,
    )
    .action(async (options: ListFlags, command: Command) => {
      const limit = wholeNumber(options.limit, 'limit', 1, 1000)
      const page = await (await context.target(command)).entries({ ...options, limit })
      context.print(command, page, () => {
        if (page.entries.length === 0) return 'There are no such entries.'
        const more = page.next === null ? '' : `\n${colors.dim(`More: --after ${page.next}`)}`
        return (
          formatTable(
            ['entry', 'at (UTC)', 'actor', 'outcome', 'what', 'matched', 'changed'],
            page.entries.map(toRow),
            ['matched', 'changed'],
          ) + more
        )
      })
    })

  book
    .command('show')
    .description('Show one entry: statement, binds, counts, and the values before and after.')
    .argument('<entry>')
    .addOption(statementOption())
    .addOption(styleOption())
    .option('--full', 'show all steps, and whole values')
    .addOption(
      new Option('--csv', 'write all rows as CSV: a line a row, each value before and after').conflicts('ndjson'),
    )
    .option('--ndjson', 'write all rows, a JSON object a line')
    .addHelpText('after', `\nExample:\n  ledgerman book show 01a21778-33f2-744c-ae50-596560d6ef34 --csv > rows.csv`)
    .action(async (id: string, flags: ShowFlags, command: Command) => {
      const target = await context.target(command)
      if (flags.csv || flags.ndjson) {
        checkRowFlags(flags, context.isJson(command))
        return writeLines(context, target.book.exportRows(id, flags.csv ? 'csv' : 'ndjson'))
      }
      const entry = await target.entry(id)
      context.print(command, entry, () => formatEntry(entry, flags.statement ?? 'short', flags.full ?? false))
    })

  book
    .command('history')
    .description(
      'What became of a record, property by property, the newest first; also what was written past the book.',
    )
    .argument('<mapping>')
    .argument('<key...>', 'the key values, in key order')
    .option('--property <property>', 'only changes of one property')
    .option('--from <moment>', 'only those since then, such as 2026-02-03 or 2026-02-03T21:00:00Z', readMoment)
    .option('--until <moment>', 'only those before then', readMoment)
    .option('--limit <events>', 'at most 500', '20')
    .option('--after <place>', 'the next page: the place where the page before ended')
    .addHelpText('after', `\nExample:\n  ledgerman book history programme P-107 --property hoursLeft`)
    .action(async (mapping: string, key: string[], options: HistoryFlags, command: Command) => {
      const target = await context.target(command)
      const limit = wholeNumber(options.limit, 'limit', 1, 500)
      const page = await target.history(mapping, key, { ...options, limit })
      const isWhole = [options.property, options.from, options.until, options.after].every((each) => each === undefined)
      context.print(command, page, () => formatHistory(page, isWhole))
    })

  book
    .command('reverse')
    .description(
      'Put an entry back, or all since then, the newest first. Rehearsed, and rolled back, unless --commit is given.',
    )
    .argument('[entry]')
    .option('--since <place>', 'all since that entry, or since a moment such as 2026-02-03T21:00:00Z', readPlace)
    .option('--until <moment>', 'with --since: only what was done before then', readMoment)
    .option('--mapping <mapping>', 'with --since: only entries of one mapping')
    .option('--transaction <name>', 'with --since: only runs of one transaction')
    .option('--actor <name>', 'with --since: only those of one actor')
    .option('--only-unchanged', 'put back the rows that are as they were left, and say which were changed since')
    .option('--commit', 'commit the change')
    .option('--rehearsal <token>', 'commit exactly what that rehearsal saw, or refuse')
    .option('--note <text>', 'kept with the entry')
    .addOption(statementOption())
    .addOption(styleOption())
    .option('--full', 'show all rows and whole values')
    .addHelpText(
      'after',
      `\nExamples:\n  ledgerman book reverse 01a21778-33f2-744c-ae50-596560d6ef34\n  ledgerman book reverse --since 2026-02-03T06:00:00Z --actor night-desk --commit`,
    )
    .action(async (entry: string | undefined, flags: ReverseFlags, command: Command) => {
      const target = await context.target(command)
      const done = await reverse(target, entry, flags)
      if ('progress' in done) {
        const keepWith = (token: string) => `To commit exactly this: the same command with --rehearsal ${token}`
        return followJob(context, command, done, { full: flags.full ?? false, keepWith })
      }
      context.print(command, done, () => formatReversal(done, flags, context.terminal.width))
    })

  addBookTrust(book, context)
  addBookKeeping(book, context)

  book
    .command('prepare')
    .description('Create the book in a target: the schema ledgerman, and nothing else. Again is harmless.')
    .action(async (_options: unknown, command: Command) => {
      const prepared = await (await context.target(command)).prepareBook()
      context.print(command, prepared, () => {
        const { prepared: when, target, created } = prepared
        if (when === 'already' && created.length === 0) return `The book of ${target} was prepared already.`
        const words = when === 'already' ? 'was of an earlier version, and is up to date now' : 'is prepared'
        return `The book of ${target} ${words}. Created:\n${indent(created.join('\n'))}`
      })
    })
}

interface ShowFlags extends Pick<ReverseFlags, 'statement' | 'full'> {
  style?: string
  csv?: boolean
  ndjson?: boolean
}

/** @throws LedgermanProblem request-invalid for what says nothing of rows */
function checkRowFlags(flags: ShowFlags, isJson: boolean): void {
  const why = 'with --csv or --ndjson only rows are written'
  refuseFlags(flags, { '--statement': why, '--style': why, '--full': why })
  if (isJson)
    refuseFlags(flags, { '--csv': 'with --json the entry is printed', '--ndjson': 'with --json the entry is printed' })
}

interface ReverseFlags {
  since?: string
  until?: string
  mapping?: string
  transaction?: string
  actor?: string
  onlyUnchanged?: boolean
  commit?: boolean
  rehearsal?: string
  note?: string
  statement?: StatementForm
  full?: boolean
}

function reverse(target: TargetClient, entry: string | undefined, flags: ReverseFlags): Promise<Receipt | Job> {
  const { since, until, mapping, transaction, actor, rehearsal, note, onlyUnchanged } = flags
  if ((entry === undefined) === (since === undefined))
    throw new LedgermanProblem('request-invalid', 'Name an entry, or say --since: one of them.', { where: 'entry' })
  const common = {
    mode: modeOf(flags),
    ...(onlyUnchanged ? { onlyUnchanged } : {}),
    ...(note === undefined ? {} : { note }),
    ...(rehearsal === undefined ? {} : { rehearsal }),
  }
  if (entry !== undefined) {
    const why = 'it goes with --since'
    refuseFlags(flags, { '--until': why, '--mapping': why, '--transaction': why, '--actor': why })
    return target.reverse(entry, common)
  }
  return target.reverseSince({ ...common, since: since ?? '', until, mapping, transaction, actor })
}

function formatReversal(receipt: Receipt, flags: ReverseFlags, width: number): string {
  const { reverses = [], leftAsIs = [] } = receipt
  const text = formatReceipt(receipt, { statement: flags.statement, full: flags.full ?? false, width })
  const left =
    leftAsIs.length === 0
      ? ''
      : `\n\n${colors.yellow('changed since, and left:')} ${leftAsIs
          .slice(0, 10)
          .map(({ mapping, key }) => `${mapping} ${keyToText(key, ',')}`)
          .join(' · ')}${leftAsIs.length > 10 ? ' …' : ''}`
  const isNothing = receipt.steps.every(({ changed }) => !changed)
  const entries = reverses.length === 1 ? `${reverses[0]}` : `${reverses.length} entries, the newest first`
  const what = isNothing ? `Nothing is put back of ${entries}.` : `It puts back ${entries}.`
  if (receipt.outcome === 'committed') return `${text}${left}\n\n${what}\nEntry ${receipt.id}`
  const keep = `the same command with --rehearsal ${receipt.rehearsal}`
  return `${text}${left}\n\n${what}\n${colors.dim(`To commit exactly this: ${keep}`)}`
}

interface HistoryFlags {
  property?: string
  from?: string
  until?: string
  limit: string
  after?: string
}

interface ListFlags {
  limit: string
  after?: string
  outcome?: string
  actor?: string
  mapping?: string
  transaction?: string
  from?: string
  until?: string
  key?: string[]
}

function toRow({
  id,
  at,
  actor,
  outcome,
  problem,
  kind,
  mapping,
  transaction,
  key,
  matched,
  changed,
  condition,
}: EntrySummary): string[] {
  const record = Object.values(key ?? {})
    .map((value) => formatValue(value, 20))
    .join(', ')
  return [
    id,
    `${at.slice(0, 10)} ${at.slice(11, 19)}`,
    actor,
    outcome === 'committed' ? colors.green('committed') : colors.red(problem ?? 'refused'),
    [kind, transaction ?? mapping, record || (condition ?? '')].filter(Boolean).join(' '),
    String(matched ?? '–'),
    String(changed ?? '–'),
  ]
}

/** How many entries are named one by one. */
const NAMED_ENTRIES = 3

/** Entries by their ids, the newest first; many by their first and last. */
function namedEntries(ids: readonly string[], full: boolean): string {
  if (full || ids.length <= NAMED_ENTRIES) return ids.join(', ')
  return `${countOf(ids.length, 'entry', 'entries')}, from ${ids.at(-1)} to ${ids[0]}; --full names all`
}

function formatEntry(entry: EntryInfo, statement: StatementForm, full: boolean): string {
  const name = entry.mapping ?? entry.transaction
  const ofRevision = entry.receipt.revision === null ? '' : `, revision ${entry.receipt.revision}`
  const facts = [
    ['entry', entry.id],
    ['at', entry.at],
    ['actor', entry.actor],
    ...(name === null ? [] : [[entry.mapping === null ? 'transaction' : 'mapping', `${name}${ofRevision}`]]),
    ...(entry.note === null ? [] : [['note', entry.note]]),
    ...(entry.receipt.reverses ? [['puts back', namedEntries(entry.receipt.reverses, full)]] : []),
    ...(entry.reversedBy.length > 0 ? [['put back by', namedEntries(entry.reversedBy, full)]] : []),
    ...(entry.problem === null ? [] : [['refused', `${entry.problem}: ${entry.detail ?? ''}`]]),
  ]
  return `${formatTable(['', ''], facts).trimStart()}\n\n${formatReceipt(entry.receipt, { statement, full })}`
}
