import colors from 'picocolors'
import type { Command } from 'commander'
import { LedgermanProblem, parseTablePath, toTablePath, type TableInfo } from '@ledgerman/contract'
import type { CommandContext } from '../command-context.js'
import { indent } from '../output/receipt-text.js'
import { replaceFile } from '../replace-file.js'
import { formatTable } from '../output/table.js'

export function addTables(program: Command, context: CommandContext): void {
  program
    .command('tables')
    .description('List the tables of a target, or show one.')
    .argument('[table]', 'schema.table; public is meant where there is no schema')
    .option('--save <file>', 'write all tables into a file, for reviews without a database')
    .addHelpText('after', `\nExamples:\n  ledgerman tables\n  ledgerman tables programme`)
    .action(async (path: string | undefined, { save }: { save?: string }, command: Command) => {
      const target = await context.target(command)
      if (save !== undefined) {
        if (path !== undefined)
          throw new LedgermanProblem('request-invalid', '--save says nothing here: it is all tables.', {
            where: '--save',
          })
        const catalogue = await target.reviewCatalogue()
        replaceFile(save, `${JSON.stringify(catalogue, null, 1)}\n`)
        return context.print(command, { file: save }, () => `Written: ${save}`)
      }
      if (path !== undefined) {
        const { schema, name } = parseTablePath(path)
        const table = await target.table(schema, name)
        return context.print(command, table, () => formatTableInfo(table))
      }
      const tables = await target.tables()
      const rows = tables.map((table) => [
        toTablePath(table.schema, table.name),
        table.kind,
        String(table.columns),
        table.key?.join(', ') ?? colors.yellow('no key'),
        table.approximateRows === null ? '' : `~${table.approximateRows}`,
        table.mappings.join(', '),
        table.cannotChange === null ? '' : colors.yellow(table.cannotChange),
      ])
      context.print(command, { tables }, () =>
        formatTable(['table', 'kind', 'columns', 'key', 'rows', 'mapping', 'cannot be changed by key'], rows, [
          'columns',
          'rows',
        ]),
      )
    })
}

function formatTableInfo(table: TableInfo): string {
  const inKey = new Set(table.keys[0]?.columns)
  const columns = table.columns.map((column) => [
    column.name,
    column.type,
    column.nullable ? 'null' : 'not null',
    [
      inKey.has(column.name) ? 'key' : '',
      column.identity ? `identity ${column.identity}` : '',
      column.generated ? 'generated' : '',
      column.default === null ? '' : `default ${column.default}`,
    ]
      .filter(Boolean)
      .join(', '),
  ])
  const section = (title: string, lines: string[]) => (lines.length > 0 ? `${title}\n${indent(lines.join('\n'))}` : '')
  return [
    `${colors.bold(toTablePath(table.schema, table.name))}  ${table.kind}${table.approximateRows === null ? '' : `, about ${table.approximateRows} rows`}${table.rowSecurity ? ', row-level security' : ''}`,
    indent(formatTable(['column', 'type', '', ''], columns)),
    section(
      'Keys',
      table.keys.map(
        ({ name, primary, columns: list }) => `${list.join(', ')}  ${colors.dim(primary ? `${name}, primary` : name)}`,
      ),
    ),
    section(
      'Checks',
      table.checks.map(({ name, definition }) => `${name}: ${definition}`),
    ),
    section(
      'Refers to',
      table.references.map((key) => `${key.columns.join(', ')} → ${key.table} (${key.otherColumns.join(', ')})`),
    ),
    section(
      'Referred to by',
      table.referencedBy.map((key) => `${key.table} (${key.otherColumns.join(', ')}) → ${key.columns.join(', ')}`),
    ),
    section(
      'Triggers on update',
      table.triggers.map(({ name, when }) => `${name}  ${colors.dim(when)}`),
    ),
  ]
    .filter(Boolean)
    .join('\n\n')
}
