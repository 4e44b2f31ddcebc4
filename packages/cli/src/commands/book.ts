import colors from 'picocolors'
import { InvalidArgumentError, type Command } from 'commander'
import type { EntryInfo, EntrySummary } from '@ledgerman/contract'
import type { CommandContext } from '../command-context.js'
import { formatHistory } from '../output/history-text.js'
import { formatReceipt, indent } from '../output/receipt-text.js'
import { formatTable, formatValue } from '../output/table.js'
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
          formatTable(['entry', 'at', 'actor', 'outcome', 'what', 'matched', 'changed'], page.entries.map(toRow), [
            'matched',
            'changed',
          ]) + more
        )
      })
    })

  book
    .command('show')
    .description('Show one entry: statement, binds, counts, and the values before and after.')
    .argument('<entry>')
    .action(async (id: string, _options: unknown, command: Command) => {
      const entry = await (await context.target(command)).entry(id)
      context.print(command, entry, () => formatEntry(entry))
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
    .option('--after <place>', 'the next page: the place that the page before ended at')
    .addHelpText('after', `\nExample:\n  ledgerman book history programme P-107 --property hoursLeft`)
    .action(async (mapping: string, key: string[], options: HistoryFlags, command: Command) => {
      const target = await context.target(command)
      const limit = wholeNumber(options.limit, 'limit', 1, 500)
      const page = await target.history(mapping, key, { ...options, limit })
      context.print(command, page, () => formatHistory(page))
    })

  book
    .command('prepare')
    .description('Create the book in a target: the schema ledgerman, and nothing else. Again is harmless.')
    .action(async (_options: unknown, command: Command) => {
      const prepared = await (await context.target(command)).prepareBook()
      context.print(command, prepared, () =>
        prepared.prepared === 'already'
          ? `The book of ${prepared.target} was prepared already.`
          : `The book of ${prepared.target} is prepared. Created:\n${indent(prepared.created.join('\n'))}`,
      )
    })
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

/** A moment as the interface takes it; one without a zone, or without a time, is read in this machine's zone. */
export function readMoment(text: string): string {
  const moment = new Date(/^\d{4}-\d{2}-\d{2}$/.test(text) ? `${text}T00:00` : text)
  if (Number.isNaN(moment.getTime()))
    throw new InvalidArgumentError('Expected a moment such as 2026-02-03 or 2026-02-03T21:00:00Z.')
  return moment.toISOString()
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

function formatEntry(entry: EntryInfo): string {
  const name = entry.mapping ?? entry.transaction
  const ofRevision = entry.receipt.revision === null ? '' : `, revision ${entry.receipt.revision}`
  const facts = [
    ['entry', entry.id],
    ['at', entry.at],
    ['actor', entry.actor],
    ...(name === null ? [] : [[entry.mapping === null ? 'transaction' : 'mapping', `${name}${ofRevision}`]]),
    ...(entry.note === null ? [] : [['note', entry.note]]),
    ...(entry.problem === null ? [] : [['refused', `${entry.problem}: ${entry.detail ?? ''}`]]),
  ]
  return `${formatTable(['', ''], facts).trimStart()}\n\n${formatReceipt(entry.receipt, { statement: true })}`
}
