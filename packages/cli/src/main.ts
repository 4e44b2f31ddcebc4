import { once } from 'node:events'
import { CommanderError } from 'commander'
import { isProblem, problemCatalogue } from '@ledgerman/contract'
import { CommandContext } from './command-context.js'
import { formatProblem, problemJson } from './output/problem-text.js'
import { createProgram } from './program.js'

const USAGE = 2
const terminal = {
  env: process.env,
  out: (text: string) => void process.stdout.write(text),
  err: (text: string) => void process.stderr.write(text),
  drained: () =>
    process.stdout.writableNeedDrain ? once(process.stdout, 'drain').then(() => undefined) : Promise.resolve(),
}

// A reader such as head may stop before the end: that is no failure.
process.stdout.on('error', (error: NodeJS.ErrnoException) => process.exit(error.code === 'EPIPE' ? 0 : 1))

try {
  await createProgram(new CommandContext(terminal)).parseAsync()
} catch (error) {
  process.exitCode = report(error)
}

function report(error: unknown): number {
  if (error instanceof CommanderError) return error.exitCode === 0 ? 0 : USAGE
  if (isProblem(error)) {
    terminal.err(`${process.argv.includes('--json') ? problemJson(error) : formatProblem(error)}\n`)
    return problemCatalogue[error.code].exit
  }
  terminal.err(`ledgerman: ${error instanceof Error ? (error.stack ?? error.message) : String(error)}\n`)
  return 1
}
