import type { Command } from 'commander'
import { LedgermanProblem, type Role } from '@ledgerman/contract'
import type { CommandContext } from '../command-context.js'
import { formatTable } from '../output/table.js'

export function addTokens(program: Command, context: CommandContext): void {
  const tokens = program
    .command('tokens')
    .description('Tokens: who may call, and under which name entries are written.')

  tokens
    .command('list')
    .description('List the tokens that are in use.')
    .action(async (_options: unknown, command: Command) => {
      context.refuseTarget(command, 'the list is that of the service')
      const list = await context.client().tokens()
      const rows = list.map(({ id, name, role, targets, only, lastUsedAt }) => [
        name,
        role,
        targets?.join(', ') ?? 'all',
        only?.join(', ') ?? 'all',
        lastUsedAt?.slice(0, 16).replace('T', ' ') ?? 'never',
        id,
      ])
      context.print(command, { tokens: list }, () =>
        formatTable(['name', 'role', 'targets', 'definitions', 'last used (UTC)', 'id'], rows),
      )
    })

  tokens
    .command('add')
    .description('Make a token. Its secret is printed this once.')
    .argument('<name>', 'the actor of its entries')
    .argument('<role>', 'reader, writer, author or admin')
    .option('--for <target...>', 'only for these targets')
    .option('--only <names>', 'only for these mappings and transactions, separated by commas')
    .addHelpText(
      'after',
      `\nExample:\n  ledgerman tokens add night-desk writer --for observatory\n  ledgerman tokens add night-assistant writer --only assistantBlock,move-hours`,
    )
    .action(async (name: string, role: string, options: { for?: string[]; only?: string }, command: Command) => {
      context.refuseTarget(command, '--for limits a token to a target')
      const added = await context.client().addToken({
        name,
        role: role as Role,
        ...(options.for ? { targets: options.for } : {}),
        ...(options.only === undefined ? {} : { only: options.only.split(',').map((each) => each.trim()) }),
      })
      context.print(command, added, () => added.token)
    })

  tokens
    .command('revoke')
    .description('Revoke a token, by its name or id.')
    .argument('<token>', 'its name, or its id')
    .action(async (given: string, _options: unknown, command: Command) => {
      context.refuseTarget(command, 'a token is revoked whole')
      const client = context.client()
      const known = (await client.tokens()).find(({ id, name }) => id === given || name === given)
      if (!known)
        throw new LedgermanProblem('not-found', `There is no token ${given}. ledgerman tokens list shows them.`, {
          token: given,
        })
      await client.revokeToken(known.id)
      context.print(command, { revoked: known.id, name: known.name }, () => `Revoked ${known.name}.`)
    })
}
