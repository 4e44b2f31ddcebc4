import colors from 'picocolors'
import type { Command } from 'commander'
import type { CommandContext } from '../command-context.js'
import { formatTable } from '../output/table.js'

export function addTargets(program: Command, context: CommandContext): void {
  program
    .command('targets')
    .description('List targets: the databases whose records can be worked on.')
    .action(async (_options: unknown, command: Command) => {
      context.refuseTarget(command, 'all of them are listed')
      const targets = await context.client().targets()
      context.print(command, { targets }, () => {
        const rows = targets.map(({ name, reachable, book, server, database }) => [
          name,
          reachable ? colors.green('reachable') : colors.red('unreachable'),
          book === 'prepared' ? 'prepared' : colors.yellow(book),
          database ?? '',
          server ?? '',
        ])
        // A problem names its target by itself.
        const notes = targets.flatMap(({ name, problem, warnings }) =>
          [...(problem === null ? [] : [problem]), ...warnings.map((warning) => `${name}: ${warning}`)].map(
            (note) => `${colors.yellow('!')} ${note}`,
          ),
        )
        return [formatTable(['target', 'state', 'book', 'database', 'PostgreSQL'], rows), ...notes].join('\n')
      })
    })
}
