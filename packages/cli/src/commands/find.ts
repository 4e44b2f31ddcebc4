import type { Find } from '@ledgerman/client'
import { LedgermanProblem, type RecordValues } from '@ledgerman/contract'
import { Option, type Command } from 'commander'
import colors from 'picocolors'
import { styleOption } from './style-option.js'
import type { CommandContext } from '../command-context.js'
import { paramOption } from '../key-arguments.js'
import { formatExplained } from '../output/explained-text.js'
import { formatRecord, formatRecords } from '../output/record-text.js'
import { writeLines } from '../output/write-lines.js'
import { wholeNumber } from '../whole-number.js'
import { refuseFlags } from './write-flags.js'

interface FindFlags {
  param: Record<string, string>
  named?: string
  order?: string
  properties?: string
  limit?: string
  after?: string
  all?: boolean
  expect?: 'one'
  count?: 'about' | true
  explain?: boolean
  ndjson?: boolean
  csv?: boolean
  withGuard?: boolean
}

const ROWS_A_PAGE = 1000

export function addFind(program: Command, context: CommandContext): void {
  program
    .command('find')
    .description('Find records: all of a mapping, or those that match an expression.')
    .argument('<mapping>')
    .argument('[expression]', 'such as: hoursLeft < 5 and lead.familyName = :name')
    .option('--named <find>', 'a find that the mapping names, in place of an expression')
    .addOption(paramOption('the value of a parameter, :name in the expression (repeatable)'))
    .option('--order <terms>', 'such as: hoursLeft desc, code')
    .option('--properties <paths>', 'only these, links followed: code,lead.familyName')
    .option('--limit <rows>', 'rows a page, at most 1000 (default: 50)')
    .option('--after <place>', 'the next page: the place where the page before ended')
    .option('--all', 'all of them, not only a page')
    .addOption(new Option('--expect <count>', 'exactly one record has to match').choices(['one']))
    .addOption(
      new Option('--count [kind]', 'how many match in all; about: as the planner estimates').choices(['about']),
    )
    .option('--explain', 'show how they would be found, without finding them')
    .addOption(styleOption())
    .addOption(new Option('--ndjson', 'a JSON object a line, as it comes').conflicts('csv'))
    .option('--csv', 'CSV with a header line, as it comes')
    .option(
      '--with-guard',
      'with --all --csv or --ndjson: the guard of each record behind the others, for a file of corrections',
    )
    .addHelpText(
      'after',
      `
Examples:
  ledgerman find programme 'hoursLeft < 5 and semester = :s' --param s=2026A --order 'hoursLeft desc'
  ledgerman find programme --named shortOfHours --param least=5
  ledgerman find programme "lead.familyName ilike 'br%'" --properties code,title,lead.familyName
  ledgerman find observer "familyName = 'Okafor'" --expect one
  ledgerman find exposure 'accepted = false' --all --csv > rejected.csv`,
    )
    .action(async (mapping: string, where: string | undefined, options: FindFlags, command: Command) => {
      checkFlags(options, context.isJson(command))
      const target = await context.target(command)
      const find = toFind(where, options)
      const paths = options.properties?.split(',').map((path) => path.trim())
      if (options.explain) {
        const explained = await target.explainFind(mapping, find)
        return context.print(command, explained, () => formatExplained(explained))
      }
      if (options.expect) {
        const one = await target.findOne(mapping, find)
        return context.print(command, one, () => formatRecord(one, context.terminal.width, paths))
      }
      if (options.ndjson || options.csv) {
        if (options.withGuard && !options.all) throw guardNeedsAll()
        const asked = options.all ? { ...find, withGuard: options.withGuard } : { ...find, limit: find.limit ?? 50 }
        return writeLines(context, target.export(mapping, asked, options.csv ? 'csv' : 'ndjson'))
      }
      if (options.withGuard) throw guardNeedsAll()
      if (!options.all) {
        const page = await target.find(mapping, find)
        return context.print(command, page, () =>
          [
            page.found.length === 0 ? nothing(mapping, where, options) : formatRecords(page.found, paths),
            ...(page.count === undefined
              ? []
              : [
                  `${page.isEstimate ? 'about ' : ''}${page.count} in all${page.isEstimate ? ', as the planner estimates' : ''}`,
                ]),
            ...(page.next === null ? [] : [colors.dim(`More: --after ${page.next}, or --all`)]),
          ].join('\n'),
        )
      }
      const found: RecordValues[] = []
      let after = options.after
      do {
        const page = await target.find(mapping, { ...find, limit: ROWS_A_PAGE, after })
        if (context.isJson(command)) found.push(...page.found)
        else
          context.terminal.out(
            `${page.found.length > 0 ? formatRecords(page.found, paths) : nothing(mapping, where, options)}\n`,
          )
        after = page.next ?? undefined
      } while (after !== undefined)
      if (context.isJson(command)) context.print(command, { found, next: null }, () => '')
    })
}

/** Refuses what would be dropped. @throws LedgermanProblem request-invalid */
function checkFlags(options: FindFlags, isJson: boolean): void {
  const refuse = (flags: readonly string[], reason: string) =>
    refuseFlags(options, Object.fromEntries(flags.map((flag) => [flag, reason])))
  if (options.explain) refuse(['--all', '--csv', '--ndjson', '--expect', '--count'], 'with --explain nothing is found')
  if (options.expect) refuse(['--all', '--csv', '--ndjson', '--limit', '--after', '--count'], 'one record is found')
  if (options.all) refuse(['--limit'], 'all records are found, however many')
  if (options.all || options.csv || options.ndjson)
    refuse(['--count'], 'it goes with a page of records, for people or with --json')
  if (isJson && (options.csv || options.ndjson))
    refuse(['--csv', '--ndjson'], 'with --json records are printed as JSON')
}

function guardNeedsAll(): LedgermanProblem {
  return new LedgermanProblem(
    'request-invalid',
    '--with-guard says nothing here: it goes with --all and --csv or --ndjson.',
    {
      where: '--with-guard',
    },
  )
}

function toFind(where: string | undefined, { param, named, order, properties, limit, after, count }: FindFlags): Find {
  if (named !== undefined && where !== undefined)
    throw new LedgermanProblem('request-invalid', '--named and an expression at once: say one of them.', {
      where: '--named',
    })
  return {
    where,
    find: named,
    order,
    properties,
    after,
    limit: limit === undefined ? undefined : wholeNumber(limit, 'limit', 1, 1000),
    count: count === true ? 'all' : count,
    params: param,
  }
}

function nothing(mapping: string, where: string | undefined, { after }: FindFlags): string {
  return `No ${mapping} ${where === undefined ? 'is there' : 'fits'}${after === undefined ? '' : ' after that'}.`
}
