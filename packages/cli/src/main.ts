import './output/plain-output.js'
import { CommanderError } from 'commander'
import { isProblem, LedgermanProblem, problemCatalogue } from '@ledgerman/contract'
import { CommandContext } from './command-context.js'
import { nameStatementForm } from './commands/statement-option.js'
import { formatProblem, problemJson } from './output/problem-text.js'
import { openStandardOutput } from './output/standard-output.js'
import { createProgram } from './program.js'

const USAGE = 2
/** Of a file or a pipe: wide enough for a value of some length, narrow enough to be read. */
const WIDTH_ELSEWHERE = 120
const isJson = process.argv.includes('--json')
let saidMore = false
const output = openStandardOutput(endWithout)
const terminal = {
  env: process.env,
  out: output.write,
  err: (text: string) => {
    saidMore = true
    process.stderr.write(text)
  },
  width: output.columns ?? WIDTH_ELSEWHERE,
  // To make that stream takes longer than most of a command does: only where somebody asks.
  get isInteractive() {
    return process.stderr.isTTY === true
  },
  isRedirected: !output.isTerminal,
  drained: output.drained,
}

createProgram(new CommandContext(terminal), process.argv[2])
  .parseAsync(nameStatementForm(process.argv))
  .catch((error: unknown) => {
    process.exitCode = report(error)
  })
  .finally(end)

/** Ends where the output is not taken, as by a disk that is full. A reader such as head may stop before the end: that is no failure. */
function endWithout(error: NodeJS.ErrnoException): never {
  if (error.code === 'EPIPE') process.exit(0)
  terminal.err(`The output could not be written: ${error.message}. What was changed stays so.\n`)
  process.exit(1)
}

/** Ends once all is written, whatever is left open: taking everything down in order takes Node longer than printing does. */
function end(): void {
  output.flush(() => (saidMore ? process.stderr.write('', () => process.exit()) : process.exit()))
}

function report(error: unknown): number {
  if (error instanceof CommanderError) {
    if (error.exitCode === 0) return 0
    if (isJson) {
      const problem = new LedgermanProblem('request-invalid', error.message.replace(/^error: /, ''), { where: 'usage' })
      terminal.err(`${problemJson(problem)}\n`)
    }
    return USAGE
  }
  if (isProblem(error)) {
    terminal.err(`${isJson ? problemJson(error) : formatProblem(error, terminal.width)}\n`)
    return problemCatalogue[error.code].exit
  }
  if (isOfFile(error))
    return report(new LedgermanProblem('request-invalid', `A file or folder cannot be used: ${error.message}.`))
  terminal.err(`ledgerman: ${error instanceof Error ? (error.stack ?? error.message) : String(error)}\n`)
  return 1
}

/** Whether the system refused to read or write a file. */
function isOfFile(error: unknown): error is NodeJS.ErrnoException {
  return error instanceof Error && 'syscall' in error && 'errno' in error
}
