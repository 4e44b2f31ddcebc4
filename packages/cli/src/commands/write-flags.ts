import colors from 'picocolors'
import { Option, type Command } from 'commander'
import {
  isProblem,
  LedgermanProblem,
  toRecordAddress,
  type ChangedRecord,
  type MappingInfo,
  type RecordValues,
  type RunMode,
} from '@ledgerman/contract'
import type { ChangeOptions } from '@ledgerman/client'
import { statementOption, type StatementForm } from './statement-option.js'
import { styleOption } from './style-option.js'
import type { CommandContext } from '../command-context.js'
import { formatReceipt } from '../output/receipt-text.js'

/** What a command that writes records can be given. */
export interface WriteFlags {
  commit?: boolean
  if?: string
  null?: string[]
  note?: string
  idempotencyKey?: string
  rehearsal?: string
  statement?: StatementForm
  full?: boolean
}

export const GUARD = ['--if <guard>', 'only where the record is still as in the load that gave this guard'] as const
export const REHEARSAL = ['--rehearsal <token>', 'commit exactly what that rehearsal saw, or refuse'] as const
export const NULL = new Option('--null <property>', 'set a property to null (repeatable)').argParser(
  (property: string, all: string[] = []) => [...all, property],
)

/** A command that writes one record or many, with the options that all of these have. */
export function writingCommand(
  program: Command,
  verb: string,
  description: string,
  words: string,
  wordsAre: string,
): Command {
  return program
    .command(verb)
    .description(`${description} Rehearsed, and rolled back, unless --commit is given.`)
    .argument('<mapping>')
    .argument(words, wordsAre)
    .option('--commit', 'commit the change')
    .option('--note <text>', 'kept with the entry')
    .option('--idempotency-key <key>', 'with --commit: sent again with the same key, it takes effect once')
    .addOption(statementOption())
    .addOption(styleOption())
    .option('--full', 'show all rows and whole values')
}

export function modeOf({ commit, rehearsal }: Pick<WriteFlags, 'commit' | 'rehearsal'>): RunMode {
  return commit || rehearsal !== undefined ? 'commit' : 'rehearse'
}

/**
 * Refuses options that say nothing here: what is dropped unsaid, somebody relies on.
 *
 * @param why by option, as it is written, where it would count
 * @throws LedgermanProblem request-invalid
 */
export function refuseFlags(given: object, why: Readonly<Record<string, string>>): void {
  for (const [flag, reason] of Object.entries(why)) {
    const name = flag.slice(2).replace(/-(\w)/g, (_, letter: string) => letter.toUpperCase())
    const value = (given as Record<string, unknown>)[name]
    const isGiven = value !== undefined && (typeof value !== 'object' || Object.keys(value as object).length > 0)
    if (isGiven) throw new LedgermanProblem('request-invalid', `${flag} says nothing here: ${reason}.`, { where: flag })
  }
}

/** What is refused of every write that is only rehearsed, or that commits a rehearsal. */
export function checkWriteFlags(flags: WriteFlags): void {
  if (modeOf(flags) === 'rehearse')
    refuseFlags(flags, { '--idempotency-key': 'a rehearsal leaves nothing behind; it goes with --commit' })
  if (flags.rehearsal !== undefined)
    refuseFlags(flags, { '--if': 'the rehearsal says already which state the record has to have' })
}

/** The options of a call that writes, from those of the command. */
export function callOptions(context: CommandContext, flags: WriteFlags, guard: string | undefined): ChangeOptions {
  return {
    mode: modeOf(flags),
    guard,
    note: flags.note,
    idempotencyKey: flags.idempotencyKey,
    rehearsal: flags.rehearsal,
    onWait: context.sayWaiting,
  }
}

/**
 * Writes a record with the guard that was given, or with that of a load just before. Where there is no such record the same command may have
 * removed it, sent before with its idempotency key: the service knows whether it did.
 */
export async function writeGuarded<T>(
  flags: Pick<WriteFlags, 'if' | 'rehearsal' | 'idempotencyKey'>,
  load: () => Promise<{ guard: string | null }>,
  write: (guard: string | undefined) => Promise<T>,
): Promise<T> {
  // What was rehearsed says which state the record has to have.
  if (flags.if !== undefined || flags.rehearsal !== undefined) return write(flags.if)
  let guard: string | null
  try {
    guard = (await load()).guard
  } catch (missing) {
    if (flags.idempotencyKey === undefined || !isProblem(missing, 'no-such-record')) throw missing
    return write(undefined).catch((error: unknown) => {
      throw isProblem(error, 'guard-required') ? missing : error
    })
  }
  return write(guard ?? undefined)
}

/** What became of one record, and how to keep it where it was only rehearsed. */
export function formatWrite(
  context: CommandContext,
  mapping: MappingInfo,
  key: readonly string[],
  values: RecordValues,
  { receipt, guard }: Pick<ChangedRecord, 'receipt' | 'guard'>,
  flags: WriteFlags,
): string {
  const text = formatReceipt(receipt, {
    statement: flags.statement,
    full: flags.full ?? false,
    width: context.terminal.width,
  })
  const isSame = receipt.steps.every((step) => step.changed === 0)
  const same = isSame
    ? `\n\n${mapping.name} ${toRecordAddress(key)} has ${Object.keys(values).join(', ')} like that already: the row was not written.`
    : ''
  if (receipt.outcome === 'committed')
    return `${text}${same}\n\nEntry ${receipt.id}${guard === null ? '' : `, guard now ${guard}`}`
  return `${text}${same}\n\n${colors.dim(`To commit it: the same command with${guard === null ? '' : ` --if ${guard}`} --commit`)}`
}
