import { Option, type Command } from 'commander'
import colors from 'picocolors'
import {
  DRILL_GUARDS,
  FAULT_KINDS,
  isProblem,
  ISOLATIONS,
  LedgermanProblem,
  suggestName,
  type DrilledRun,
  type DrillReport,
  type DrillRequest,
} from '@ledgerman/contract'
import type { TargetClient } from '@ledgerman/client'
import type { CommandContext } from '../command-context.js'
import type { KeptDrill } from '../drill/drill-file.js'
import type { DrillCase } from '../drill/junit.js'
import { parsePairs, splitArguments } from '../key-arguments.js'
import { formOfCode } from '../drill/code-form.js'
import { kindOfDrill, type DrillFlags, type DrillKind } from '../drill/drill-flags.js'
import { formatDrill, verdict } from '../output/drill-text.js'
import { paramsOf } from '../run-arguments.js'
import { wholeNumber } from '../whole-number.js'
import { replaceFile } from '../replace-file.js'

/** For a drill that tried nothing, so that nobody takes it for one that passed or failed. */
const NOT_RUN = 10
const FAILED = 1

export function addDrill(program: Command, context: CommandContext): void {
  program
    .command('drill')
    .description(
      'Try a write path where nothing can be harmed: under every fault, in every interleaving, many at once.',
    )
    .argument('[what]', 'a transaction, or a mapping of which one record is loaded and saved')
    .argument('[words...]', "the transaction's name=value pairs, or the record's key and property=value pairs")
    .option('--fault <kinds>', `all, or some of ${FAULT_KINDS.join(', ')}, with commas`)
    .option('--with <run...>', 'a second run, or a third: in every interleaving with the first (repeatable)', collect)
    .option('--isolation <levels>', `all, or some of ${ISOLATIONS.join(', ')}, with commas`)
    .option('--guard <ways>', `all, or some of ${DRILL_GUARDS.join(', ')}, with commas`)
    .option('--at-most <schedules>', 'so many at each level and guard; of more a sample is taken (default: 1000)')
    .option('--seed <number>', 'the sample that this seed gave')
    .option('--times <runs>', 'commit it so many times')
    .option('--at-once <runs>', 'so many of them at the same time (default: 16)')
    .option('--invariant <expression>', "what has to stay, such as 'sum(programme.hoursLeft)' (repeatable)", collect)
    .option('--example <number>', 'take the parameters of that example of the definition, counted from 1')
    .option('--code <folder>', 'drill the code that `emit` wrote there, in place of the definitions')
    .option('--all <folder>', 'run the drills that are kept in files, NAME.drill.yaml')
    .addOption(new Option('--junit <file>', 'write what came of --all as JUnit XML'))
    .addHelpText(
      'after',
      `
Examples:
  ledgerman drill move-hours from=P-107 to=P-112 hours=4 --fault all
  ledgerman drill move-hours --example 1 --with move-hours from=P-112 to=P-107 hours=1 --isolation all
  ledgerman drill programme P-107 hoursLeft=3 --with programme P-107 hoursLeft=4 --guard all
  ledgerman drill move-hours --example 1 --times 500 --invariant 'sum(programme.hoursLeft)'
  ledgerman drill move-hours --example 1 --fault all --code src/data
  ledgerman drill --all drills --junit drills.xml`,
    )
    .action(async (what: string | undefined, words: string[], options: DrillFlags, command: Command) => {
      const kind = kindOfDrill(options, what === undefined ? [] : [what, ...words])
      const target = await context.target(command)
      if (options.all !== undefined) return drillAll(target, options.all, options.junit, command)
      if (what === undefined)
        throw new LedgermanProblem('request-invalid', 'Name a transaction or a mapping, or give --all FOLDER.', {
          where: 'what',
        })
      const request = await toRequest(target, kind, [what, ...words], options, groupsOf(program, '--with'))
      if (options.code !== undefined) request.code = await formOfCode(target, options.code, request)
      const report = await follow(target, request)
      context.print(command, report, () => formatDrill(report))
      if (!report.passed) process.exitCode = report.notRun === null ? FAILED : NOT_RUN
    })

  async function drillAll(target: TargetClient, place: string, junit: string | undefined, command: Command) {
    // What reads YAML, and what writes XML, is loaded where it is needed: every command would start later for it.
    const { readDrillFiles } = await import('../drill/drill-file.js')
    const cases: (DrillCase & { report: DrillReport | null })[] = []
    for (const drill of readDrillFiles(place)) {
      const done = await runKept(target, drill)
      cases.push(done)
      if (!context.isJson(command)) context.terminal.out(`${formatCase(done)}\n`)
    }
    const failed = cases.filter(({ unmet, error }) => unmet.length > 0 || error !== null)
    if (junit !== undefined) {
      const { toJunit } = await import('../drill/junit.js')
      replaceFile(junit, `${toJunit(cases)}\n`)
    }
    context.print(command, { drills: cases }, () =>
      failed.length === 0
        ? colors.green(`${cases.length} drills met their expectations.`)
        : colors.red(`${failed.length} of ${cases.length} drills did not meet their expectations.`),
    )
    if (failed.length > 0) process.exitCode = FAILED
  }

  async function runKept(target: TargetClient, { file, name, request, expect }: KeptDrill) {
    const began = performance.now()
    const { unmetExpectations } = await import('../drill/drill-file.js')
    try {
      const report = await follow(target, request)
      const unmet = unmetExpectations(report, expect)
      return { name, file, durationMs: report.durationMs, unmet, error: null, report }
    } catch (error) {
      if (!isProblem(error)) throw error
      const durationMs = Math.round(performance.now() - began)
      return { name, file, durationMs, unmet: [], error: `${error.code}: ${error.detail}`, report: null }
    }
  }

  /** Says on a terminal how far it is. */
  async function follow(target: TargetClient, request: DrillRequest): Promise<DrillReport> {
    const isTerminal = process.stderr.isTTY
    const report = await target.drill(request, ({ done, total, what }) => {
      if (isTerminal) context.terminal.err(`\r\u001b[2K${done} of ${total}: ${what}`)
    })
    if (isTerminal) context.terminal.err('\r\u001b[2K')
    return report
  }
}

async function toRequest(
  target: TargetClient,
  kind: DrillKind,
  words: string[],
  options: DrillFlags,
  others: readonly string[][],
): Promise<DrillRequest> {
  const first = await toRun(target, words, options.example)
  const isolation = listOf(options.isolation, ISOLATIONS, 'isolation')
  if (kind === 'race')
    return {
      kind,
      runs: [first, ...(await Promise.all(others.map((each) => toRun(target, each))))],
      times: wholeNumber(options.times ?? '', 'times'),
      atOnce: wholeNumber(options.atOnce ?? '16', 'at-once'),
      keep: options.invariant ?? [],
      ...(isolation?.[0] && isolation[0] !== 'all' ? { isolation: isolation[0] } : {}),
    }
  if (kind === 'interleaving')
    return {
      kind,
      runs: [first, ...(await Promise.all(others.map((each) => toRun(target, each))))],
      ...(isolation ? { isolation } : {}),
      ...(options.guard ? { guard: listOf(options.guard, DRILL_GUARDS, 'guard') } : {}),
      atMost: wholeNumber(options.atMost ?? '1000', 'at-most'),
      ...(options.seed === undefined ? {} : { seed: wholeNumber(options.seed, 'seed') }),
    }
  return { kind: 'fault', run: first, faults: listOf(options.fault ?? 'all', FAULT_KINDS, 'fault') ?? ['all'] }
}

/** A transaction with its parameters, or the load and save of a mapping's record. */
async function toRun(target: TargetClient, words: readonly string[], example?: string): Promise<DrilledRun> {
  const [name = '', ...rest] = words
  const transactions = await target.transactions()
  if (transactions.some((each) => each.name === name)) {
    const transaction = await target.transaction(name)
    return { transaction: name, params: paramsOf(transaction, rest, example) }
  }
  const mappings = await target.mappings()
  if (!mappings.some((each) => each.name === name))
    throw new LedgermanProblem(
      'not-found',
      `There is no transaction and no mapping ${name}. ${suggestName(
        name,
        [...transactions, ...mappings].map((each) => each.name),
      )}`,
      { where: name },
    )
  if (example !== undefined)
    throw new LedgermanProblem('request-invalid', `--example says nothing here: ${name} is a mapping, and has none.`, {
      where: '--example',
    })
  const mapping = await target.mapping(name)
  const { key, pairs } = splitArguments(mapping, rest)
  return {
    mapping: name,
    key: Object.fromEntries(mapping.key.map((property, at) => [property, key[at]])),
    values: parsePairs(mapping, pairs, []),
  }
}

/** What stands behind each use of an option: the words up to the next option. Two uses would else be one list. */
function groupsOf(program: Command, option: string): string[][] {
  const { rawArgs } = program as unknown as { rawArgs: string[] }
  return rawArgs.flatMap((word, at) => {
    if (word !== option) return []
    const rest = rawArgs.slice(at + 1)
    const end = rest.findIndex((each) => each.startsWith('--'))
    return [end < 0 ? rest : rest.slice(0, end)]
  })
}

function listOf<T extends string>(text: string, known: readonly T[], option: string): (T | 'all')[]
function listOf<T extends string>(
  text: string | undefined,
  known: readonly T[],
  option: string,
): (T | 'all')[] | undefined
function listOf<T extends string>(text: string | undefined, known: readonly T[], option: string) {
  return text?.split(',').map((each) => {
    const word = each.trim()
    if (word === 'all' || known.includes(word as T)) return word as T | 'all'
    throw new LedgermanProblem(
      'request-invalid',
      `--${option}: unknown name ${word}. ${suggestName(word, ['all', ...known])}`,
      {
        where: option,
      },
    )
  })
}

function collect(value: string, all: string[] = []): string[] {
  return [...all, value]
}

function formatCase({ name, durationMs, unmet, error, report }: DrillCase & { report: DrillReport | null }): string {
  const seconds = `${(durationMs / 1000).toFixed(1)} s`
  if (error !== null) return `${colors.red('!!')}  ${name}  ${error}`
  if (unmet.length > 0) return `${colors.red('!!')}  ${name}  ${seconds}  ${unmet.join('; ')}`
  return `${colors.green('ok')}  ${name}  ${seconds}  ${report?.passed === false ? 'as expected' : report ? verdict(report) : ''}`
}
