import { LedgermanProblem, type Receipt, type RunInput } from '@ledgerman/contract'
import type { Command } from 'commander'
import colors from 'picocolors'
import { statementOption, type StatementForm } from './statement-option.js'
import { styleOption } from './style-option.js'
import type { CommandContext } from '../command-context.js'
import { formatReceipt } from '../output/receipt-text.js'
import { formatTable } from '../output/table.js'
import { paramsOf, parseParams, typedParams } from '../run-arguments.js'
import { refuseFlags } from './write-flags.js'

interface RunFlags {
  commit?: boolean
  rehearsal?: string
  steps?: string
  example?: string
  note?: string
  confirm?: boolean
  statement?: StatementForm
  idempotencyKey?: string
}

export function addRuns(program: Command, context: CommandContext): void {
  program
    .command('transactions')
    .description('List the transactions of a target, or show one.')
    .argument('[transaction]')
    .action(async (name: string | undefined, _options: unknown, command: Command) => {
      const target = await context.target(command)
      if (name !== undefined) {
        const transaction = await target.transaction(name)
        return context.print(command, transaction, () => transaction.source.trimEnd())
      }
      const transactions = await target.transactions()
      context.print(command, { transactions }, () =>
        transactions.length === 0
          ? `${target.name} has no transactions yet. Publish some: ledgerman publish PATH`
          : formatTable(
              ['transaction', 'parameters', 'revision', 'summary'],
              transactions.map((each) => [
                each.name,
                each.params.join(', '),
                String(each.revision),
                each.summary ?? '',
              ]),
              ['revision'],
            ),
      )
    })

  program
    .command('run')
    .description('Run a transaction. Rehearsed, and rolled back, unless --commit is given.')
    .argument('[transaction]')
    .argument('[params...]', 'name=value pairs')
    .option('--commit', 'commit the change')
    .option('--rehearsal <token>', 'commit exactly what that rehearsal saw, or refuse')
    .option('--steps <file>', 'run the steps of a file (YAML or JSON) instead of a published transaction')
    .option('--example <number>', 'take the parameters of that example of the definition, counted from 1')
    .option('--note <text>', 'kept with the entry')
    .option('--confirm', 'read the written rows back by a second session')
    .option('--idempotency-key <key>', 'an idempotency key: sent again, it takes effect once')
    .addOption(statementOption())
    .addOption(styleOption())
    .addHelpText(
      'after',
      `
Examples:
  ledgerman run move-hours from=P-107 to=P-112 hours=4
  ledgerman run move-hours --example 1 --commit
  ledgerman run --steps correction.yaml`,
    )
    .action(async (first: string | undefined, rest: string[], options: RunFlags, command: Command) => {
      const target = await context.target(command)
      const mode = options.commit || options.rehearsal !== undefined ? ('commit' as const) : ('rehearse' as const)
      if (mode === 'rehearse') {
        const reason = 'a rehearsal leaves nothing behind; it goes with --commit'
        refuseFlags(options, { '--idempotency-key': reason, '--confirm': reason })
      }
      const common = {
        mode,
        ...(options.rehearsal === undefined ? {} : { rehearsal: options.rehearsal }),
        ...(options.note === undefined ? {} : { note: options.note }),
        ...(options.confirm ? { confirm: true } : {}),
      }
      let run: RunInput
      if (options.steps !== undefined) {
        refuseFlags(options, { '--example': 'steps in a file have none' })
        const pairs = first === undefined ? rest : [first, ...rest]
        const { readSteps } = await import('../steps-file.js')
        const { params, types, ...steps } = readSteps(options.steps)
        run = {
          ...steps,
          types,
          ...common,
          params: { ...params, ...typedParams(types, parseParams(pairs)) },
        } as RunInput
      } else {
        if (first === undefined)
          throw new LedgermanProblem('request-invalid', 'Name a transaction, or give --steps FILE.', {
            where: 'transaction',
          })
        const transaction = await target.transaction(first)
        run = { ...common, transaction: first, params: paramsOf(transaction, rest, options.example) }
      }
      const receipt = await target
        .run(run, { idempotencyKey: options.idempotencyKey, onWait: context.sayWaiting })
        .catch(async (error: unknown) => {
          throw options.steps === undefined ? error : (await import('../steps-file.js')).inFile(options.steps, error)
        })
      context.print(command, receipt, () => formatRun(receipt, options))
    })
}

function formatRun(receipt: Receipt, options: RunFlags): string {
  const text = formatReceipt(receipt, { statement: options.statement })
  const { rows = 0, asWritten, writtenAgainSince = 0 } = receipt.confirmed ?? {}
  const again = writtenAgainSince > 0 ? `; other entries wrote ${writtenAgainSince} of them since` : ''
  const confirmed = receipt.confirmed
    ? `\n\nRead back: ${asWritten} of ${rows} rows are as they were written${again}.`
    : ''
  if (receipt.outcome === 'committed')
    return `${text}${confirmed}\n\nEntry ${receipt.id}${receipt.replayed ? ', of the first time this was sent' : ''}`
  return `${text}\n\n${colors.dim(`To commit exactly this: the same command with --rehearsal ${receipt.rehearsal}`)}`
}
