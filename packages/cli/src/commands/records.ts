import colors from 'picocolors'
import type { Command } from 'commander'
import {
  toRecordAddress,
  type ChangedRecord,
  type MappingInfo,
  type RecordValues,
  type RunMode,
} from '@ledgerman/contract'
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

  keyedCommand('change', 'Change properties of one record.', '<words...>', 'the key values, then property=value pairs')
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
    .action(writeValues('change'))

  keyedCommand(
    'replace',
    'Replace every property of one record that can be set. Missing ones are refused by name.',
    '<words...>',
    'the key values, then property=value pairs',
  )
    .addHelpText(
      'after',
      `\nExample:\n  ledgerman replace telescope OLD name='The Old Refractor' apertureM=0.35 status=retired --commit`,
    )
    .action(writeValues('replace'))

  keyedCommand(
    'add',
    'Add one record. Properties that are not named get their defaults.',
    '[pairs...]',
    'property=value pairs',
  )
    .addHelpText('after', `\nExample:\n  ledgerman add telescope code=HF3 name='Harrow Three' apertureM=3.60 --commit`)
    .action(async (name: string, pairs: string[], options: WriteFlags, command: Command) => {
      const target = await context.target(command)
      const mapping = await target.mapping(name)
      const values = parsePairs(mapping, pairs, options.null ?? [])
      const added = await target.add(name, values, { mode: modeOf(options) })
      context.print(command, added, () =>
        formatWrite(
          mapping,
          mapping.key.map((each) => String(added.record[each])),
          values,
          added,
          options,
        ),
      )
    })

  keyedCommand('remove', 'Remove one record.', '<key...>', 'the key values, in key order')
    .addHelpText('after', `\nExample:\n  ledgerman remove calibration HF1 2026-02-03 flat --commit`)
    .action(async (name: string, words: string[], options: WriteFlags, command: Command) => {
      const target = await context.target(command)
      const mapping = await target.mapping(name)
      const { key } = splitArguments(mapping, words)
      const guard = options.if ?? (await target.load(name, key)).guard ?? undefined
      const { receipt } = await target.remove(name, key, { mode: modeOf(options), guard })
      context.print(command, { receipt }, () =>
        formatWrite(mapping, key, {}, { receipt, guard: options.commit ? null : (guard ?? null) }, options),
      )
    })

  /** Sets the named values of one record, or all of them, with the guard that was given or that of a load just before. */
  function writeValues(verb: 'change' | 'replace') {
    return async (name: string, words: string[], options: WriteFlags, command: Command) => {
      const target = await context.target(command)
      const mapping = await target.mapping(name)
      const { key, pairs } = splitArguments(mapping, words)
      const values = parsePairs(mapping, pairs, options.null ?? [])
      const guard = options.if ?? (await target.load(name, key)).guard ?? undefined
      const written = await target[verb](name, key, values, { mode: modeOf(options), guard })
      context.print(command, written, () => formatWrite(mapping, key, values, written, options))
    }
  }

  function keyedCommand(verb: string, description: string, words: string, wordsAre: string): Command {
    return program
      .command(verb)
      .description(`${description} Rehearsed, and rolled back, unless --commit is given.`)
      .argument('<mapping>')
      .argument(words, wordsAre)
      .option('--commit', 'keep it')
      .option('--if <guard>', 'only where the record is still as in the load that gave this guard')
      .option('--null <property>', 'set a property to null (repeatable)', (property: string, all: string[] = []) => [
        ...all,
        property,
      ])
      .option('--statement', 'show the statement and its binds')
  }
}

interface WriteFlags {
  commit?: boolean
  if?: string
  null?: string[]
  statement?: boolean
}

function modeOf({ commit }: WriteFlags): RunMode {
  return commit ? 'commit' : 'rehearse'
}

function formatWrite(
  mapping: MappingInfo,
  key: string[],
  values: RecordValues,
  { receipt, guard }: Pick<ChangedRecord, 'receipt' | 'guard'>,
  options: WriteFlags,
): string {
  const text = formatReceipt(receipt, { statement: options.statement ?? false })
  const isSame = receipt.steps.every((step) => step.changed === 0)
  const same = isSame
    ? `\n\n${mapping.name} ${toRecordAddress(key)} has ${Object.keys(values).join(', ')} like that already: the row was not written.`
    : ''
  if (receipt.outcome === 'committed')
    return `${text}${same}\n\nEntry ${receipt.id}${guard === null ? '' : `, guard now ${guard}`}`
  return `${text}${same}\n\n${colors.dim(`To keep it: the same command with${guard === null ? '' : ` --if ${guard}`} --commit`)}`
}
