import { LedgermanProblem, suggestName } from '@ledgerman/contract'
import { Option, type Command } from 'commander'
import colors from 'picocolors'
import type { CommandContext } from '../command-context.js'
import { formatWaits } from '../output/waits-text.js'
import { wholeNumber } from '../whole-number.js'

export function addWaits(program: Command, context: CommandContext): void {
  const waits = program
    .command('waits')
    .description('Who waits for whose lock, right now.')
    .option('--watch', 'again whenever something changes, until interrupted')
    .action(async (options: { watch?: boolean }, command: Command) => {
      const target = await context.target(command)
      if (!options.watch) {
        const now = await target.waits()
        return context.print(command, now, () => formatWaits(now))
      }
      for await (const now of target.watchWaits())
        context.print(command, now, () => `${colors.dim(now.at)}\n${formatWaits(now)}\n`)
    })

  for (const action of ['cancel', 'end'] as const)
    waits
      .command(action)
      .description(
        action === 'cancel' ? 'Cancel what a session runs.' : 'End a session; its transaction is rolled back.',
      )
      .argument('<pid>', 'of a session in the list')
      .option('--yes', 'do it; without, it is only shown which session that is')
      .action(async (pid: string, options: { yes?: boolean }, command: Command) => {
        const target = await context.target(command)
        const { sessions } = await target.waits()
        const session = sessions.find((each) => String(each.pid) === pid)
        if (!session)
          throw new LedgermanProblem(
            'not-found',
            `No session ${pid} waits or is waited for. ${suggestName(
              pid,
              sessions.map((each) => String(each.pid)),
            )}`,
            { pid },
          )
        if (!options.yes)
          return context.print(
            command,
            session,
            () =>
              `${pid}: ${session.application ?? ''}, ${session.user ?? ''}, ${session.state ?? ''}, ${session.behind} behind\n${session.lastStatement ?? ''}\n\n${colors.dim(`To ${action} it: the same command with --yes`)}`,
          )
        const ended = await target.endSession(session.pid, session.startedAt, action)
        context.print(
          command,
          ended,
          () => `${action === 'cancel' ? 'Cancelled what' : 'Ended'} ${pid}${action === 'cancel' ? ' ran' : ''}.`,
        )
      })

  program
    .command('demo')
    .description('Stage what goes wrong between two programs, on the demo observatory only. It ends on its own.')
    .argument(
      '<what>',
      'hold: a held row or table · idle: a forgotten transaction, others behind · edit: a competing edit',
    )
    .option('--seconds <number>', 'for how long', '30')
    .addOption(new Option('--lock <kind>', 'what hold holds').choices(['row', 'table']).default('row'))
    .option('--code <code>', 'the programme it is about', 'P-107')
    .action(
      async (what: string, options: { seconds: string; lock: 'row' | 'table'; code: string }, command: Command) => {
        if (what !== 'hold' && what !== 'idle' && what !== 'edit')
          throw new LedgermanProblem(
            'request-invalid',
            `Nothing is called ${what} here. ${suggestName(what, ['hold', 'idle', 'edit'])}`,
            {
              where: 'what',
            },
          )
        const target = await context.target(command)
        const told = await target.stage({
          what,
          seconds: wholeNumber(options.seconds, 'seconds', 1, 120),
          lock: options.lock,
          code: options.code,
        })
        context.print(command, told, () => told.message)
      },
    )
}
