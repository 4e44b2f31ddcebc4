import { LedgermanProblem, printJson, type LockHolder, type PlaceholderStyle } from '@ledgerman/contract'
import type { LedgermanClient, TargetClient } from '@ledgerman/client'
import type { Command } from 'commander'
import type { StatementForm } from './commands/statement-option.js'
import { chooseTarget, connect } from './connection.js'
import { formatHolders } from './output/waits-text.js'

/** What a command works with; the process's own streams and environment are passed in. */
export interface Terminal {
  env: NodeJS.ProcessEnv
  out: (text: string) => void
  err: (text: string) => void
  /** Columns of the terminal; of anything else as many as a value needs. */
  width: number
  /** Whether somebody sees what is written to `err` come and go: progress is shown to nobody else. */
  isInteractive: boolean
  /** Whether what is written to `out` goes elsewhere than to a terminal. */
  isRedirected: boolean
  /** Resolves when there is room for more output. */
  drained: () => Promise<void>
}

interface GlobalOptions {
  json?: boolean
  target?: string
}

interface StatementOptions {
  style?: PlaceholderStyle
  statement?: StatementForm
  explain?: boolean
}

/** The style that statements are asked for in. @throws LedgermanProblem request-invalid where none is shown */
function styleOf(command: Command, isJson: boolean): PlaceholderStyle | undefined {
  const { style, statement, explain } = command.opts<StatementOptions>()
  if (style === undefined || statement || explain || isJson || command.name() === 'show') return style
  const flag = command.options.some(({ long }) => long === '--explain') ? '--explain' : '--statement'
  throw new LedgermanProblem('request-invalid', `--style says nothing here: it goes with ${flag} or --json.`, {
    where: '--style',
  })
}

/** Gives a command its connection and its output in the form that was asked for. */
export class CommandContext {
  constructor(readonly terminal: Terminal) {}

  client(): LedgermanClient {
    return connect(this.terminal.env)
  }

  /**
   * Refuses a target where a command concerns none: somebody may take it for a limit.
   *
   * @throws LedgermanProblem request-invalid
   */
  refuseTarget(command: Command, why: string): void {
    if (command.optsWithGlobals<GlobalOptions>().target !== undefined)
      throw new LedgermanProblem('request-invalid', `--target says nothing here: ${why}.`, { where: '--target' })
  }

  target(command: Command): Promise<TargetClient> {
    const client = connect(this.terminal.env, styleOf(command, this.isJson(command)))
    return chooseTarget(client, command.optsWithGlobals<GlobalOptions>().target, this.terminal.env)
  }

  isJson(command: Command): boolean {
    return command.optsWithGlobals<GlobalOptions>().json ?? false
  }

  /** Prints `value` as JSON where `--json` was given, and the text otherwise. */
  print(command: Command, value: unknown, text: () => string): void {
    this.terminal.out(`${this.isJson(command) ? printJson(value, 2) : text()}\n`)
  }

  /** Writes a part of a long output, no faster than its reader takes it. */
  write(text: string): Promise<void> {
    this.terminal.out(text)
    return this.terminal.drained()
  }

  /** Shows how far something is, in place of what was shown before; nothing for the end. */
  showProgress(text: string): void {
    if (!this.terminal.isInteractive) return
    this.terminal.err(`\r\u001b[K${text.slice(0, this.terminal.width - 1)}`)
  }

  /** Says on standard error who holds the lock that a command waits for, so that it does not seem to hang. */
  sayWaiting = (holders: LockHolder[]): void => {
    this.terminal.err(`${formatHolders(holders)} …\n`)
  }
}
