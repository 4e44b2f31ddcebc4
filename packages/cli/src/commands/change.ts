import colors from 'picocolors'
import { Option, type Command } from 'commander'
import { LedgermanProblem, type MappingInfo, type Receipt, type RunInput } from '@ledgerman/contract'
import type { TargetClient } from '@ledgerman/client'
import type { CommandContext } from '../command-context.js'
import { isJsonKind, paramOption, keyOfRecord, parsePairs, splitArguments, splitPair } from '../key-arguments.js'
import { changeByJob, changeFromFile, inFlags, isLong, type FileFlags, type ManyFlags } from './change-many.js'
import { formatReceipt } from '../output/receipt-text.js'
import {
  callOptions,
  checkWriteFlags,
  formatWrite,
  GUARD,
  modeOf,
  NULL,
  refuseFlags,
  REHEARSAL,
  writeGuarded,
  writingCommand,
  type WriteFlags,
} from './write-flags.js'

interface ChangeFlags extends ManyFlags, Omit<FileFlags, 'from'> {
  from?: string
  by?: string
  compute?: string[]
  merge?: boolean
  ifChanged?: 'refuse' | 'reapply'
}

export function addChange(program: Command, context: CommandContext): void {
  writingCommand(
    program,
    'change',
    'Change properties of one record, or with --where of all that match a condition.',
    '[words...]',
    'the key values (none with --where), then property=value pairs',
  )
    .option(...GUARD)
    .option('--by <properties>', 'find it by another unique key than that of the mapping, such as email')
    .addOption(NULL)
    .option('--merge', 'an object for a json property sets only the members that it names')
    .option('--where <expression>', 'all records that match it, in one statement')
    .addOption(paramOption('a value for a :name in the expressions (repeatable)'))
    .option(
      '--compute <property=expression>',
      "from the row's own values, such as 'hoursLeft=hoursLeft - 1' (repeatable)",
      (pair: string, all: string[] = []) => [...all, pair],
    )
    .option(
      '--expect <count>',
      'how many rows --where has to match: one, some, any, a number, or a range such as 2..40',
    )
    .option('--every-row', 'all records; or, with --where: yes, it matches every row')
    .addOption(IMAGES)
    .option('--from <file>', 'a file of corrections: CSV with a header line, or NDJSON; - for standard input')
    .addOption(new Option('--form <form>', 'what the file is, where its name does not say').choices(['csv', 'ndjson']))
    .option('--delimiter <character>', 'the delimiter between the fields of the CSV file, where it is not a comma')
    .option('--chunk <rows>', 'commit so many rows of the file at a time; rows that fail are reported, and skipped')
    .option('--guard <column>', "the column of the file that holds each row's guard")
    .addOption(
      new Option('--on-missing <what>', 'rows of the file whose record is not there').choices(['refuse', 'add']),
    )
    .option(...REHEARSAL)
    .addOption(
      new Option(
        '--if-changed <what>',
        'reapply: where it was changed meanwhile, in other properties, try again',
      ).choices(['refuse', 'reapply']),
    )
    .addHelpText(
      'after',
      `
Without --if the record is loaded first, and changed only if nobody changed it in between. A key value that looks like
property=value is written with the key's own name before it: code=a=b.

Examples:
  ledgerman change programme P-107 hoursLeft=14.50
  ledgerman change programme P-107 hoursLeft=14.50 --statement
  ledgerman change programme P-107 hoursLeft=14.50 --if v1 --commit
  ledgerman change observer tomas.okafor@harrowfell.example active=false --by email
  ledgerman change calibration HF1 2026-02-03 flat frames=12 --null note --commit
  ledgerman change programme --where "semester = :s" --param s=2026A --compute 'priority=least(priority + 1, 5)'
  ledgerman change programme --from corrections.csv
  ledgerman change exposure --from corrections.csv --guard guard --chunk 1000 --commit`,
    )
    .action(async (name: string, words: string[], flags: ChangeFlags, command: Command) => {
      checkWriteFlags(flags)
      const target = await context.target(command)
      const mapping = await target.mapping(name)
      if (flags.from !== undefined)
        return changeFromFile(context, target, mapping, words, { ...flags, from: flags.from }, command)
      refuseFlags(flags, OF_FILE)
      const isMany = flags.where !== undefined || (flags.everyRow === true && !isKeyed(mapping, words))
      if (isMany && (await isLong(target, mapping, flags))) {
        refuseFlags(flags, OF_ONE)
        return changeByJob(context, target, mapping, flags, setOf(mapping, words, flags), command)
      }
      refuseFlags(flags, { '--images': OF_WHERE })
      if (flags.where === undefined && flags.compute === undefined)
        return changeOne(context, target, mapping, words, flags, command)
      const run =
        flags.where === undefined ? await computed(target, mapping, words, flags) : filtered(mapping, words, flags)
      const receipt = await runInFlags(context, target, run, flags)
      context.print(command, receipt, () => formatMany(context, receipt, flags))
    })
}

/** Removes all records that match a condition, as a run of one step. */
export async function removeMany(
  context: CommandContext,
  target: TargetClient,
  mapping: MappingInfo,
  flags: ManyFlags,
  command: Command,
): Promise<void> {
  refuseFlags(flags, { '--if': NO_GUARD })
  if (await isLong(target, mapping, flags))
    return changeByJob(context, target, mapping, flags, { remove: true }, command)
  const step = { remove: mapping.name, ...finderOf(flags), ...countOf(flags) }
  const run = toRun([step], flags)
  const receipt = await runInFlags(context, target, run, flags)
  context.print(command, receipt, () => formatMany(context, receipt, flags))
}

/** Runs one step; where it does not say how many rows it is meant to match, that is told in flags. */
async function runInFlags(
  context: CommandContext,
  target: TargetClient,
  run: RunInput,
  { idempotencyKey }: Pick<ManyFlags, 'idempotencyKey'>,
): Promise<Receipt> {
  try {
    return await target.run(run, { idempotencyKey, onWait: context.sayWaiting })
  } catch (error) {
    throw inFlags(error)
  }
}

export const IMAGES = new Option('--images <what>', 'what the book keeps of each of many rows').choices([
  'full',
  'changed',
  'none',
])

/** Words that are all pairs name no key. */
function isKeyed({ properties }: MappingInfo, words: readonly string[]): boolean {
  return !words.every((word) => (properties ?? []).some(({ name }) => word.startsWith(`${name}=`)))
}

const NO_GUARD = 'many records have a guard each; it goes with one record, found by its key'
const OF_WHERE = 'it goes with --where'
/** Flags of one record, refused with many. */
const OF_ONE = {
  '--if': NO_GUARD,
  '--by': 'the condition finds the records',
  '--merge': 'it goes with values of one record',
  '--if-changed': NO_GUARD,
}
/** Flags of a file, refused without one. */
const OF_FILE = Object.fromEntries(
  ['--form', '--delimiter', '--chunk', '--guard', '--on-missing'].map((flag) => [flag, 'it goes with --from']),
)

/** Sets the named values of one record, with the guard that was given or that of a load just before. */
async function changeOne(
  context: CommandContext,
  target: TargetClient,
  mapping: MappingInfo,
  words: string[],
  flags: ChangeFlags,
  command: Command,
): Promise<void> {
  refuseFlags(flags, {
    '--expect': `one record is found by its key; ${OF_WHERE}`,
    '--every-row': OF_WHERE,
    '--param': 'there is no expression to take it; it goes with --where or --compute',
  })
  const { key: found, pairs } = splitArguments(mapping, words, flags.by)
  const values = parsePairs(mapping, pairs, flags.null ?? [])
  if (!mapping.properties?.some((property) => property.name in values && isJsonKind(property)))
    refuseFlags(flags, { '--merge': 'no json property is set' })
  const loaded = flags.by === undefined ? undefined : await target.load(mapping.name, found, flags.by)
  const key = loaded ? keyOfRecord(mapping, loaded.record) : found
  const written = await writeGuarded(
    flags,
    async () => loaded ?? target.load(mapping.name, key),
    (guard) =>
      target.change(mapping.name, key, values, {
        ...callOptions(context, flags, guard),
        merge: flags.merge,
        ifChanged: flags.ifChanged ?? 'refuse',
      }),
  )
  context.print(command, written, () => formatWrite(context, mapping, key, values, written, flags))
}

/** A change of one record with computed values, as a run of one step. */
async function computed(
  target: TargetClient,
  mapping: MappingInfo,
  words: string[],
  flags: ChangeFlags,
): Promise<RunInput> {
  refuseFlags(flags, {
    '--expect': `one record is found by its key; ${OF_WHERE}`,
    '--every-row': OF_WHERE,
    '--merge': 'it goes with values of one record, not with --compute',
    '--if-changed': 'what is computed is computed from the record as it is',
  })
  const { key: found, pairs } = splitArguments(mapping, words, flags.by)
  const loaded = await target.load(mapping.name, found, flags.by)
  const key = flags.by === undefined ? found : keyOfRecord(mapping, loaded.record)
  const finder = {
    key: Object.fromEntries(mapping.key.map((name, at) => [name, `'${(key[at] ?? '').replaceAll("'", "''")}'`])),
    // Sent again with its idempotency key it has to ask the same, whatever it left.
    guard: flags.if ?? (flags.idempotencyKey === undefined ? (loaded.guard ?? 'any') : 'any'),
  }
  return toRun([{ change: mapping.name, ...finder, ...setOf(mapping, pairs, flags) }], flags)
}

/** A change by condition, as a run of one step. */
function filtered(mapping: MappingInfo, pairs: string[], flags: ChangeFlags): RunInput {
  refuseFlags(flags, OF_ONE)
  const step = { change: mapping.name, ...finderOf(flags), ...countOf(flags), ...setOf(mapping, pairs, flags) }
  return toRun([step], flags)
}

function finderOf({ where, everyRow }: ManyFlags) {
  return { where: where ?? '', ...(everyRow ? { everyRow } : {}) }
}

function countOf({ expect }: ManyFlags) {
  return expect === undefined ? {} : { expect: (/^\d+$/.test(expect) ? Number(expect) : expect) as 'one' }
}

function setOf(mapping: MappingInfo, pairs: string[], flags: ChangeFlags) {
  const values = parsePairs(mapping, pairs, flags.null ?? [])
  const compute: Record<string, string> = {}
  for (const pair of flags.compute ?? []) {
    const [left, right] = splitPair(pair, 'compute')
    // Where an expression has blanks, there are some around the sign too.
    const [name, expression] = [unquoted(left.trim()), right.trim()]
    if (Object.hasOwn(compute, name) || Object.hasOwn(values, name))
      throw new LedgermanProblem('request-invalid', `${name} is set twice. Say once what it is to be.`, { where: name })
    compute[name] = expression
  }
  return {
    ...(Object.keys(values).length > 0 ? { values } : {}),
    ...(Object.keys(compute).length > 0 ? { compute } : {}),
  }
}

/** A property's name as expressions write it, in quotes where it is a word of theirs: `"null"`. */
function unquoted(name: string): string {
  return /^"(?:[^"]|"")+"$/.test(name) ? name.slice(1, -1).replaceAll('""', '"') : name
}

function toRun(steps: object[], flags: WriteFlags & { param: Record<string, string> }): RunInput {
  const { rehearsal, note, param } = flags
  return {
    mode: modeOf(flags),
    steps,
    params: param,
    ...(rehearsal === undefined ? {} : { rehearsal }),
    ...(note === undefined ? {} : { note }),
  } as RunInput
}

function formatMany(context: CommandContext, receipt: Receipt, flags: WriteFlags): string {
  const text = formatReceipt(receipt, {
    statement: flags.statement,
    full: flags.full ?? false,
    width: context.terminal.width,
  })
  if (receipt.outcome === 'committed') return `${text}\n\nEntry ${receipt.id}`
  if (receipt.steps.every(({ matched }) => matched === 0)) return `${text}\n\nNo record fits: there is nothing to keep.`
  return `${text}\n\n${colors.dim(`To commit exactly this: the same command with --rehearsal ${receipt.rehearsal}`)}`
}
