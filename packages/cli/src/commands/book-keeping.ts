import colors from 'picocolors'
import { InvalidArgumentError, type Command } from 'commander'
import { LedgermanProblem, type BookSizes, type Pruning } from '@ledgerman/contract'
import type { CommandContext } from '../command-context.js'
import { formatTable } from '../output/table.js'
import { writeLines } from '../output/write-lines.js'
import { readMoment } from '../read-moment.js'
import { modeOf } from './write-flags.js'

const DAY_MS = 24 * 60 * 60 * 1000
const UNITS: Record<string, number> = { h: DAY_MS / 24, d: DAY_MS, w: 7 * DAY_MS }

/** Keeping the book: what it holds, what is taken out of it, and what is removed. */
export function addBookKeeping(book: Command, context: CommandContext): void {
  book
    .command('sizes')
    .description('What the book holds by month and mapping, and the room it takes.')
    .action(async (_options: unknown, command: Command) => {
      const sizes = await (await context.target(command)).book.sizes()
      context.print(command, sizes, () => formatSizes(sizes))
    })

  book
    .command('export')
    .description(
      'Write entries with their rows as NDJSON, or as CSV, the oldest first: a line for each row that was written.',
    )
    .option('--csv', 'write CSV')
    .option('--outcome <outcome>', 'only committed, only refused, or only those refused with one code')
    .option('--actor <name>', 'only those of one actor')
    .option('--mapping <mapping>', 'only those of one mapping')
    .option('--transaction <name>', 'only runs of one transaction')
    .option('--from <moment>', 'only those since then, such as 2026-02-03 or 2026-02-03T21:00:00Z', readMoment)
    .option('--until <moment>', 'only those before then', readMoment)
    .option('--key <value...>', 'only those of one record; needs --mapping')
    .addHelpText('after', `\nExample:\n  ledgerman book export --from 2026-02-01 --csv > february.csv`)
    .action(async ({ csv, ...choice }: ExportFlags, command: Command) => {
      if (context.isJson(command))
        throw new LedgermanProblem('request-invalid', '--json says nothing here: an export is NDJSON or CSV.', {
          where: '--json',
        })
      const target = await context.target(command)
      await writeLines(context, target.book.export(choice, csv ? 'csv' : 'ndjson'))
    })

  book
    .command('prune')
    .description('Remove old entries with their images; seals go on holding. Only counted unless --commit is given.')
    .requiredOption('--older-than <age>', 'such as 90d, 12w or 36h, or a moment such as 2026-02-03', readAge)
    .option('--commit', 'remove them; there is no way back')
    .option('--note <text>', 'kept with the entry that says what was pruned')
    .addHelpText('after', `\nExample:\n  ledgerman book prune --older-than 90d --commit`)
    .action(async ({ olderThan, note, ...flags }: PruneFlags, command: Command) => {
      const target = await context.target(command)
      const asked = { mode: modeOf(flags), before: olderThan, ...(note === undefined ? {} : { note }) }
      const pruned = await target.book.prune(asked)
      context.print(command, pruned, () => formatPruning(pruned))
    })
}

interface ExportFlags {
  csv?: boolean
  outcome?: string
  actor?: string
  mapping?: string
  transaction?: string
  from?: string
  until?: string
  key?: string[]
}

interface PruneFlags {
  olderThan: string
  commit?: boolean
  note?: string
}

/** The moment that lies so far back. */
function readAge(text: string): string {
  const [, number, unit = ''] = /^(\d{1,6})([hdw])$/.exec(text) ?? []
  if (number !== undefined) return new Date(Date.now() - Number(number) * (UNITS[unit] ?? 0)).toISOString()
  try {
    return readMoment(text)
  } catch {
    throw new InvalidArgumentError('Expected an age such as 90d, 12w or 36h, or a moment such as 2026-02-03.')
  }
}

function formatSizes({ sizes, totalBytes }: BookSizes): string {
  const total = `The whole book, with its indexes: ${formatBytes(totalBytes)}`
  if (sizes.length === 0) return `There are no entries.\n${total}`
  const rows = sizes.map(({ month, mapping, entries, images, bytes }) => [
    month,
    mapping ?? '–',
    String(entries),
    String(images),
    formatBytes(bytes),
  ])
  return `${formatTable(['month', 'mapping', 'entries', 'images', 'room'], rows, ['entries', 'images', 'room'])}\n\n${total}`
}

function formatBytes(bytes: number): string {
  if (bytes < 1024) return `${bytes} B`
  const units = ['KiB', 'MiB', 'GiB', 'TiB']
  let [value, at] = [bytes / 1024, 0]
  for (; value >= 1024 && at < units.length - 1; at++) value /= 1024
  return `${value < 10 ? value.toFixed(1) : Math.round(value)} ${units[at]}`
}

function formatPruning({ mode, before, entries, images, left, entry }: Pruning): string {
  const what = `${entries} entries and ${images} images from before ${before}`
  const stay = left === 0 ? '' : `\n${left} older entries stay: no seal covers them.`
  if (mode === 'commit' && entry === null) return `Nothing is that old: nothing was removed.${stay}`
  if (mode === 'commit') return `${colors.green('removed')}: ${what}.${stay}\n\nEntry ${entry?.split('/').at(-1) ?? ''}`
  const keep = entries === 0 ? '' : `\n${colors.dim('To remove them: the same command with --commit')}`
  return `It would remove ${what}.${stay}${keep}`
}
