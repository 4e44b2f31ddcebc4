import colors from 'picocolors'
import type { Command } from 'commander'
import { LedgermanProblem, parseTablePath } from '@ledgerman/contract'
import type { CommandContext } from '../command-context.js'
import { formatTable } from '../output/table.js'

export function addMappings(program: Command, context: CommandContext): void {
  program
    .command('mappings')
    .description('List the mappings of a target.')
    .action(async (_options: unknown, command: Command) => {
      const mappings = await (await context.target(command)).mappings()
      const rows = mappings.map(({ name, table, key, guard, revision, publishedBy }) => [
        name,
        table,
        key.join(', ') || colors.yellow('no key'),
        guard,
        String(revision),
        publishedBy,
      ])
      context.print(command, { mappings }, () =>
        formatTable(['mapping', 'table', 'key', 'guard', 'revision', 'by'], rows, ['revision']),
      )
    })

  program
    .command('map')
    .description('Derive the mapping of a table and print it as YAML.')
    .argument('<table>', 'schema.table; public is meant where there is no schema')
    .option('--publish', 'publish it as well')
    .addHelpText(
      'after',
      `\nExamples:\n  ledgerman map programme\n  ledgerman map programme > mappings/programme.yaml\n  ledgerman map public.calibration --publish`,
    )
    .action(async (path: string, options: { publish?: boolean }, command: Command) => {
      const { schema, name } = parseTablePath(path)
      const target = await context.target(command)
      const derived = await target.deriveMapping(schema, name)
      for (const note of derived.notes) context.terminal.err(`${colors.yellow('!')} ${note}\n`)
      if (!options.publish) return context.print(command, derived, () => derived.source.trimEnd())
      const known = (await target.mappings()).find((each) => each.name === derived.definition.mapping)
      if (known && known.table !== derived.definition.table)
        throw new LedgermanProblem(
          'request-invalid',
          `${known.name} is the mapping of ${known.table} already. To map ${derived.definition.table} too, print the definition, give it another name, and publish that.`,
          { where: 'mapping', mapping: known.name },
        )
      const published = await target.publishMapping(derived.definition.mapping, derived.source)
      context.print(
        command,
        published,
        () => `${derived.source}\n${colors.green('published')}: ${published.name}, revision ${published.revision}`,
      )
    })
}
