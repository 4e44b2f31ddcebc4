import { typesOfMappings, type TargetClient } from '@ledgerman/client'
import { LedgermanProblem, type DefinitionsPublished } from '@ledgerman/contract'
import type { Command } from 'commander'
import colors from 'picocolors'
import type { CommandContext } from '../command-context.js'
import { readDefinitionFiles } from '../definition-files.js'
import type { Published } from '../fetched-files.js'
import { formatFinding } from '../output/finding-text.js'
import { formatTable } from '../output/table.js'

/** What `check` ends with where something does not fit: that of a definition that is not valid. */
const UNFIT = 2

export function addDefinitions(program: Command, context: CommandContext): void {
  program
    .command('publish')
    .description('Publish the definitions in a folder or file: all, or none where one does not fit.')
    .argument('<path>', 'a folder, or one .yaml, .yml or .json file')
    .addHelpText(
      'after',
      `\nExamples:\n  ledgerman publish definitions/\n  ledgerman publish definitions/programme.yaml`,
    )
    .action(async (path: string, _options: unknown, command: Command) => {
      const definitions = readDefinitionFiles(path)
      const target = await context.target(command)
      const published = await target.publish(definitions)
      context.print(command, published, () => formatStates(published))
    })

  program
    .command('withdraw')
    .description(
      'Withdraw published definitions: all that are named, or none where another one uses them. Revisions stay readable, and so do entries made with them.',
    )
    .option('--mapping <name...>', 'these mappings')
    .option('--transaction <name...>', 'these transactions')
    .option('--check', 'withdraw nothing; only say whether it can be done')
    .addHelpText('after', `\nExample:\n  ledgerman withdraw --mapping lens --transaction polish-lens`)
    .action(async ({ mapping = [], transaction = [], check = false }: WithdrawFlags, command: Command) => {
      const named = [
        ...mapping.map((name) => ({ kind: 'mapping' as const, name })),
        ...transaction.map((name) => ({ kind: 'transaction' as const, name })),
      ]
      if (named.length === 0)
        throw new LedgermanProblem('request-invalid', 'withdraw: expected --mapping NAME or --transaction NAME.', {
          where: 'withdraw',
        })
      const target = await context.target(command)
      const withdrawn = await target.withdraw(named, { check })
      context.print(command, withdrawn, () =>
        check
          ? `${formatStates(withdrawn)}\n\n${colors.green('Nothing stands in the way')}, and nothing was withdrawn: without --check it is.`
          : formatStates(withdrawn),
      )
    })

  program
    .command('check')
    .description(
      'Check the definitions in a folder or file, or those that are published, against the target as it is now.',
    )
    .argument('[path]', 'a folder, or one .yaml, .yml or .json file')
    .addHelpText(
      'after',
      `\nEnds with ${UNFIT} where something does not fit, so that a build can stop there.\n\nExamples:\n  ledgerman check definitions/\n  ledgerman check`,
    )
    .action(async (path: string | undefined, _options: unknown, command: Command) => {
      const definitions = path === undefined ? [] : readDefinitionFiles(path)
      const target = await context.target(command)
      const checked = await target.publish(definitions, { check: true })
      context.print(command, checked, () => formatChecked(checked, target, path))
      if (checked.findings.length > 0) process.exitCode = UNFIT
    })

  program
    .command('types')
    .description('Print the TypeScript types of the mapped records, for drafts.')
    .addHelpText('after', `\nExample:\n  ledgerman types > src/records.ts`)
    .action(async (_options: unknown, command: Command) => {
      const target = await context.target(command)
      const mappings = await Promise.all((await target.mappings()).map(({ name }) => target.mapping(name)))
      const types = typesOfMappings(mappings)
      context.print(command, { types }, () => types.trimEnd())
    })

  program
    .command('fetch')
    .description('Write the published definitions into a folder: where they stand there already, or a file each.')
    .argument('<folder>')
    .option('--overwrite', 'also over changes that were never published')
    .addHelpText('after', `\nExample:\n  ledgerman fetch definitions/`)
    .action(async (folder: string, { overwrite = false }: { overwrite?: boolean }, command: Command) => {
      const target = await context.target(command)
      const { writeFetched } = await import('../fetched-files.js')
      const files = await writeFetched(folder, await readPublished(target), overwrite)
      context.print(command, { files }, () =>
        files.length === 0
          ? `${target.name} has no definitions yet.`
          : formatTable(
              ['file', ''],
              files.map(({ file, state }) => [file, colored(state)]),
            ),
      )
    })
}

interface WithdrawFlags {
  mapping?: string[]
  transaction?: string[]
  check?: boolean
}

/** What is published, as `fetch` writes it. */
async function readPublished(target: TargetClient): Promise<Published[]> {
  const [mappings, transactions] = await Promise.all([target.mappings(), target.transactions()])
  /** Looks through the earlier revisions, the newest first. */
  const wasEver = (latest: number, read: (revision: number) => Promise<{ source: string }>) => async (text: string) => {
    for (let revision = latest - 1; revision > 0; revision--) if ((await read(revision)).source === text) return true
    return false
  }
  return Promise.all([
    ...mappings.map(async ({ name }): Promise<Published> => {
      const { source, revision } = await target.mapping(name)
      return { kind: 'mapping', name, source, wasEver: wasEver(revision, (no) => target.mappingRevision(name, no)) }
    }),
    ...transactions.map(async ({ name }): Promise<Published> => {
      const { source, revision } = await target.transaction(name)
      const read = (no: number) => target.transactionRevision(name, no)
      return { kind: 'transaction', name, source, wasEver: wasEver(revision, read) }
    }),
  ])
}

function formatStates({ definitions }: DefinitionsPublished): string {
  const rows = definitions.map(({ kind, name, revision, state }) => [kind, name, String(revision), colored(state)])
  return formatTable(['', 'name', 'revision', ''], rows, ['revision'])
}

function formatChecked(checked: DefinitionsPublished, target: TargetClient, path: string | undefined): string {
  const { definitions, findings } = checked
  if (findings.length > 0) return findings.map(formatFinding).join('\n')
  if (path !== undefined) return `${formatStates(checked)}\n\n${colors.green('All fit')} ${target.name} as it is now.`
  return `${colors.green('All fit')}: ${definitions.length} published definitions of ${target.name}.`
}

function colored(state: DefinitionsPublished['definitions'][number]['state']): string {
  return {
    new: colors.green('new'),
    changed: colors.yellow('changed'),
    same: colors.dim('same'),
    withdrawn: colors.yellow('withdrawn'),
  }[state]
}
