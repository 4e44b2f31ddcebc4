import colors from 'picocolors'
import type { Command } from 'commander'
import { toRecordAddress, type ChangedRecord, type MappingInfo, type RecordValues } from '@ledgerman/contract'
import type { CommandContext } from '../command-context.js'
import { parsePairs, splitArguments } from '../key-arguments.js'
import { formatReceipt } from '../output/receipt-text.js'
import { formatTable, formatValue, isNumeric } from '../output/table.js'

export function addRecords(program: Command, context: CommandContext): void {
  program
    .command('find')
    .description('List the first records of a mapping, in key order.')
    .argument('<mapping>')
    .option('--limit <rows>', 'rows a page, at most 1000', '50')
    .option('--after <place>', 'the next page: the place that the page before ended at')
    .addHelpText('after', `\nExamples:\n  ledgerman find programme --limit 10\n  ledgerman find telescope --json`)
    .action(async (mapping: string, options: { limit: string; after?: string }, command: Command) => {
      const page = await (
        await context.target(command)
      ).list(mapping, { limit: Number(options.limit), after: options.after })
      context.print(command, page, () => {
        const names = Object.keys(page.found[0] ?? {})
        if (names.length === 0) return `There are no records of ${mapping}${options.after ? ' after that' : ''}.`
        const right = names.filter((name) => isNumeric(page.found.map((record) => record[name])))
        const rows = page.found.map((record) => names.map((name) => formatValue(record[name], 32)))
        const more = page.next === null ? '' : `\n${colors.dim(`More: --after ${page.next}`)}`
        return formatTable(names, rows, right) + more
      })
    })

  program
    .command('load')
    .description('Load one record by its key.')
    .argument('<mapping>')
    .argument('<key...>', 'the key values, in key order')
    .addHelpText(
      'after',
      `\nExamples:\n  ledgerman load programme P-107\n  ledgerman load calibration HF1 2026-02-03 flat`,
    )
    .action(async (name: string, words: string[], _options: unknown, command: Command) => {
      const target = await context.target(command)
      const loaded = await target.load(name, words)
      context.print(command, loaded, () => {
        const rows = Object.entries(loaded.record).map(([property, value]) => [property, formatValue(value, 100)])
        return `${formatTable(['property', 'value'], rows)}\n\n${colors.dim('guard')}  ${loaded.guard ?? 'none'}`
      })
    })

  program
    .command('change')
    .description('Change properties of one record. Rehearsed, and rolled back, unless --commit is given.')
    .argument('<mapping>')
    .argument('<words...>', 'the key values, then property=value pairs')
    .option('--commit', 'keep the change')
    .option('--if <guard>', 'only where the record is still as in the load that gave this guard')
    .option(
      '--null <property>',
      'set a property to null (repeatable)',
      (name: string, all: string[]) => [...all, name],
      [],
    )
    .option('--statement', 'show the statement and its binds')
    .addHelpText(
      'after',
      `
Without --if the record is loaded first, and changed only if nobody was faster in between.

Examples:
  ledgerman change programme P-107 hoursLeft=14.50
  ledgerman change programme P-107 hoursLeft=14.50 --statement
  ledgerman change programme P-107 hoursLeft=14.50 --if v1 --commit
  ledgerman change calibration HF1 2026-02-03 flat frames=12 --null note --commit`,
    )
    .action(async (name: string, words: string[], options: ChangeFlags, command: Command) => {
      const target = await context.target(command)
      const mapping = await target.mapping(name)
      const { key, pairs } = splitArguments(mapping, words)
      const values = parsePairs(mapping, pairs, options.null)
      const guard = options.if ?? (await target.load(name, key)).guard ?? undefined
      const changed = await target.change(name, key, values, { mode: options.commit ? 'commit' : 'rehearse', guard })
      context.print(command, changed, () => formatChange(mapping, key, values, changed, options))
    })
}

interface ChangeFlags {
  commit?: boolean
  if?: string
  null: string[]
  statement?: boolean
}

function formatChange(
  mapping: MappingInfo,
  key: string[],
  values: RecordValues,
  changed: ChangedRecord,
  options: ChangeFlags,
): string {
  const { receipt, guard } = changed
  const text = formatReceipt(receipt, { statement: options.statement ?? false })
  const isSame = receipt.steps.every((step) => step.changed === 0)
  const same = isSame
    ? `\n\n${mapping.name} ${toRecordAddress(key)} has ${Object.keys(values).join(', ')} like that already: the row was not written.`
    : ''
  if (receipt.outcome === 'committed')
    return `${text}${same}\n\nEntry ${receipt.id}${guard === null ? '' : `, guard now ${guard}`}`
  return `${text}${same}\n\n${colors.dim(`To keep it: the same command with${guard === null ? '' : ` --if ${guard}`} --commit`)}`
}
