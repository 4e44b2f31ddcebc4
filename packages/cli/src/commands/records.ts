import { LedgermanProblem } from '@ledgerman/contract'
import type { Command } from 'commander'
import type { CommandContext } from '../command-context.js'
import { paramOption, keyOfRecord, parsePairs, splitArguments } from '../key-arguments.js'
import { IMAGES, removeMany } from './change.js'
import type { ManyFlags } from './change-many.js'
import {
  callOptions,
  checkWriteFlags,
  formatWrite,
  GUARD,
  NULL,
  refuseFlags,
  REHEARSAL,
  writeGuarded,
  writingCommand,
  type WriteFlags,
} from './write-flags.js'

type RemoveFlags = ManyFlags

export function addRecords(program: Command, context: CommandContext): void {
  writingCommand(
    program,
    'replace',
    'Replace every property of one record that can be set. Missing ones are refused by name.',
    '<words...>',
    'the key values, then property=value pairs',
  )
    .option(...GUARD)
    .option(...REHEARSAL)
    .addOption(NULL)
    .addHelpText(
      'after',
      `\nExample:\n  ledgerman replace telescope OLD name='The Old Refractor' apertureM=0.35 status=retired --commit`,
    )
    .action(async (name: string, words: string[], flags: WriteFlags, command: Command) => {
      checkWriteFlags(flags)
      const target = await context.target(command)
      const mapping = await target.mapping(name)
      const { key, pairs } = splitArguments(mapping, words)
      const values = parsePairs(mapping, pairs, flags.null ?? [])
      const written = await writeGuarded(
        flags,
        () => target.load(name, key),
        (guard) => target.replace(name, key, values, callOptions(context, flags, guard)),
      )
      context.print(command, written, () => formatWrite(context, mapping, key, values, written, flags))
    })

  writingCommand(
    program,
    'add',
    'Add one record. Properties that are not named get their defaults.',
    '[pairs...]',
    'property=value pairs',
  )
    .addOption(NULL)
    .addHelpText('after', `\nExample:\n  ledgerman add telescope code=HF3 name='Harrow Three' apertureM=3.60 --commit`)
    .action(async (name: string, pairs: string[], flags: WriteFlags, command: Command) => {
      checkWriteFlags(flags)
      const target = await context.target(command)
      const mapping = await target.mapping(name)
      const values = parsePairs(mapping, pairs, flags.null ?? [])
      const added = await target.add(name, values, callOptions(context, flags, undefined))
      const key = keyOfRecord(mapping, added.record)
      context.print(command, added, () => formatWrite(context, mapping, key, values, added, flags))
    })

  writingCommand(
    program,
    'remove',
    'Remove one record, or with --where all that match a condition.',
    '[key...]',
    'the key values, in key order (none with --where)',
  )
    .option(...GUARD)
    .option(...REHEARSAL)
    .option('--where <expression>', 'all records that match it, in one statement')
    .addOption(paramOption('a value for a :name in the condition (repeatable)'))
    .option('--expect <count>', 'how many rows --where has to match: one, some, any, a number, or a range')
    .option('--every-row', 'all records; or, with --where: yes, it matches every row')
    .addOption(IMAGES)
    .addHelpText(
      'after',
      `\nExamples:\n  ledgerman remove calibration HF1 2026-02-03 flat --commit\n  ledgerman remove calibration --where "frames = 0"`,
    )
    .action(async (name: string, words: string[], flags: RemoveFlags, command: Command) => {
      checkWriteFlags(flags)
      const target = await context.target(command)
      const mapping = await target.mapping(name)
      const { where } = flags
      if (where !== undefined || (flags.everyRow && words.length === 0)) {
        if (words.length > 0)
          throw new LedgermanProblem('request-invalid', `"${words[0]}": a key and --where at once. Say one of them.`, {
            where: 'key',
          })
        return removeMany(context, target, mapping, flags, command)
      }
      refuseFlags(flags, {
        '--param': 'it goes with --where',
        '--expect': 'it goes with --where',
        '--every-row': 'it goes with --where',
        '--images': 'it goes with --where',
      })
      const { key, pairs } = splitArguments(mapping, words)
      if (pairs.length > 0)
        throw new LedgermanProblem('request-invalid', `"${pairs[0]}": a removal takes the key and nothing more.`, {
          where: 'key',
        })
      const told = await writeGuarded(
        flags,
        () => target.load(name, key),
        async (guard) => {
          const { receipt } = await target.remove(name, key, callOptions(context, flags, guard))
          return { receipt, guard: receipt.outcome === 'committed' ? null : (guard ?? null) }
        },
      )
      context.print(command, { receipt: told.receipt }, () => formatWrite(context, mapping, key, {}, told, flags))
    })
}
