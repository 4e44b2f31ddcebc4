import colors from 'picocolors'
import { Option, type Command } from 'commander'
import {
  toRecordAddress,
  type ChangedRecord,
  type MappingInfo,
  type RecordValues,
  type RunInput,
  type RunMode,
} from '@ledgerman/contract'
import type { TargetClient } from '@ledgerman/client'
import type { CommandContext } from '../command-context.js'
import { bindValue, parsePairs, splitArguments, splitPair } from '../key-arguments.js'
import { formatReceipt } from '../output/receipt-text.js'
import { formatExplained } from '../output/explained-text.js'
import { formatRecord } from '../output/record-text.js'

const GUARD = ['--if <guard>', 'only where the record is still as in the load that gave this guard'] as const
const NULL = new Option('--null <property>', 'set a property to null (repeatable)').argParser(
  (property: string, all: string[] = []) => [...all, property],
)

export function addRecords(program: Command, context: CommandContext): void {
  program
    .command('load')
    .description('Load one record by its key.')
    .argument('<mapping>')
    .argument('<key...>', 'the key values, in key order')
    .option('--by <properties>', 'another unique key than that of the mapping, such as email')
    .option('--explain', 'show how it would be loaded, without loading it')
    .addHelpText(
      'after',
      `\nExamples:\n  ledgerman load programme P-107\n  ledgerman load calibration HF1 2026-02-03 flat\n  ledgerman load observer --by email tomas.okafor@harrowfell.example`,
    )
    .action(async (name: string, words: string[], options: { by?: string; explain?: boolean }, command: Command) => {
      const target = await context.target(command)
      if (options.explain) {
        const explained = await target.explainLoad(name, words, options.by)
        return context.print(command, explained, () => formatExplained(explained))
      }
      const loaded = await target.load(name, words, options.by)
      context.print(command, loaded, () => formatRecord(loaded))
    })

  keyedCommand(
    'change',
    'Change properties of one record, or with --where of all that a condition is true of.',
    '[words...]',
    'the key values (none with --where), then property=value pairs',
  )
    .option(...GUARD)
    .addOption(NULL)
    .option('--where <expression>', 'all records that this is true of, in one statement')
    .option('--bind <name=value>', 'a value for a :name in the expressions (repeatable)', bindValue, {})
    .option(
      '--compute <property=expression>',
      "from the row's own values, such as 'hoursLeft=hoursLeft - 1' (repeatable)",
      collect,
    )
    .option(
      '--expect <count>',
      'how many rows --where has to match: one, some, any, a number, or a range such as 2..40',
    )
    .option('--every-row', 'the condition leaves no row out, and that is meant')
    .option('--rehearsal <token>', 'commit exactly what that rehearsal saw, or refuse')
    .addOption(
      new Option(
        '--on-conflict <what>',
        'reapply: where somebody was faster and changed other properties, try again',
      ).choices(['refuse', 'reapply']),
    )
    .addHelpText(
      'after',
      `
Without --if the record is loaded first, and changed only if nobody was faster in between.

Examples:
  ledgerman change programme P-107 hoursLeft=14.50
  ledgerman change programme P-107 hoursLeft=14.50 --statement
  ledgerman change programme P-107 hoursLeft=14.50 --if v1 --commit
  ledgerman change calibration HF1 2026-02-03 flat frames=12 --null note --commit
  ledgerman change programme --where "semester = :s" --bind s=2026A --compute 'priority=least(priority + 1, 5)'`,
    )
    .action(async (name: string, words: string[], options: WriteFlags & FilterFlags, command: Command) => {
      if (options.where === undefined && options.compute === undefined)
        return writeValues('change')(name, words, options, command)
      const target = await context.target(command)
      const mapping = await target.mapping(name)
      const run = await toRun(target, mapping, words, options)
      const receipt = await target.run(run, { onWait: context.sayWaiting })
      context.print(command, receipt, () => {
        const text = formatReceipt(receipt, { statement: options.statement ?? false })
        return receipt.outcome === 'committed'
          ? `${text}\n\nEntry ${receipt.id}`
          : `${text}\n\n${colors.dim(`To keep exactly this: the same command with --rehearsal ${receipt.rehearsal}`)}`
      })
    })

  keyedCommand(
    'replace',
    'Replace every property of one record that can be set. Missing ones are refused by name.',
    '<words...>',
    'the key values, then property=value pairs',
  )
    .option(...GUARD)
    .addOption(NULL)
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
    .addOption(NULL)
    .addHelpText('after', `\nExample:\n  ledgerman add telescope code=HF3 name='Harrow Three' apertureM=3.60 --commit`)
    .action(async (name: string, pairs: string[], options: WriteFlags, command: Command) => {
      const target = await context.target(command)
      const mapping = await target.mapping(name)
      const values = parsePairs(mapping, pairs, options.null ?? [])
      const added = await target.add(name, values, { mode: modeOf(options), onWait: context.sayWaiting })
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
    .option(...GUARD)
    .addHelpText('after', `\nExample:\n  ledgerman remove calibration HF1 2026-02-03 flat --commit`)
    .action(async (name: string, words: string[], options: WriteFlags, command: Command) => {
      const target = await context.target(command)
      const mapping = await target.mapping(name)
      const { key } = splitArguments(mapping, words)
      const guard = options.if ?? (await target.load(name, key)).guard ?? undefined
      const { receipt } = await target.remove(name, key, { mode: modeOf(options), guard, onWait: context.sayWaiting })
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
      const { rehearsal } = options
      // What was rehearsed says which state the record has to have.
      const isRehearsed = rehearsal !== undefined
      const guard = options.if ?? (isRehearsed ? undefined : ((await target.load(name, key)).guard ?? undefined))
      const onConflict = options.onConflict ?? 'refuse'
      const written = await target[verb](name, key, values, {
        mode: isRehearsed ? 'commit' : modeOf(options),
        guard,
        rehearsal,
        onConflict,
        onWait: context.sayWaiting,
      })
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
      .option('--statement', 'show the statement and its binds')
  }
}

interface FilterFlags {
  where?: string
  bind: Record<string, string>
  compute?: string[]
  expect?: string
  everyRow?: boolean
}

/** A change by condition, or with computed values, as a run of one step. */
async function toRun(
  target: TargetClient,
  mapping: MappingInfo,
  words: string[],
  options: WriteFlags & FilterFlags,
): Promise<RunInput> {
  const { where, bind, expect, everyRow, rehearsal } = options
  const { key, pairs } = where === undefined ? splitArguments(mapping, words) : { key: [], pairs: words }
  const values = parsePairs(mapping, pairs, options.null ?? [])
  const compute = Object.fromEntries((options.compute ?? []).map((pair) => splitPair(pair, 'compute')))
  const sets = {
    ...(Object.keys(values).length > 0 ? { values } : {}),
    ...(Object.keys(compute).length > 0 ? { compute } : {}),
  }
  const count = expect === undefined ? {} : { expect: (/^\d+$/.test(expect) ? Number(expect) : expect) as 'one' }
  const guard = where === undefined ? (options.if ?? (await target.load(mapping.name, key)).guard ?? 'any') : undefined
  const finder =
    where === undefined
      ? {
          key: Object.fromEntries(mapping.key.map((name, at) => [name, `'${(key[at] ?? '').replaceAll("'", "''")}'`])),
          guard: guard ?? 'any',
        }
      : { where, ...(everyRow ? { everyRow } : {}) }
  const step = { change: mapping.name, ...finder, ...count, ...sets }
  const mode = rehearsal !== undefined ? 'commit' : modeOf(options)
  return { mode, steps: [step], params: bind, ...(rehearsal === undefined ? {} : { rehearsal }) }
}

function collect(pair: string, all: string[] = []): string[] {
  return [...all, pair]
}

interface WriteFlags {
  rehearsal?: string
  onConflict?: 'refuse' | 'reapply'
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
