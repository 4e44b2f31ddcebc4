import { Command, CommanderError } from 'commander'
import { addChange } from './commands/change.js'
import { addBook } from './commands/book.js'
import { addEmit } from './commands/emit.js'
import { addDefinitions } from './commands/definitions.js'
import { addDrill } from './commands/drill.js'
import { addFind } from './commands/find.js'
import { addJobs } from './commands/jobs.js'
import { addLoad } from './commands/load.js'
import { addLogin } from './commands/login.js'
import { addMappings } from './commands/mappings.js'
import { addRecords } from './commands/records.js'
import { addReview } from './commands/review.js'
import { addRuns } from './commands/runs.js'
import { addTables } from './commands/tables.js'
import { addTargets } from './commands/targets.js'
import { addTokens } from './commands/tokens.js'
import { addWaits } from './commands/waits.js'
import { readVersion } from './version.js'
import type { CommandContext } from './command-context.js'

/** What adds commands, and which: in the order a first session needs them. */
const COMMANDS: readonly (readonly [add: (program: Command, context: CommandContext) => void, names: string[]])[] = [
  [addLogin, ['login']],
  [addTargets, ['targets']],
  [addTables, ['tables']],
  [addMappings, ['mappings', 'map']],
  [addDefinitions, ['publish', 'check', 'types', 'fetch']],
  [addEmit, ['emit']],
  [addReview, ['review']],
  [addFind, ['find']],
  [addLoad, ['load']],
  [addRecords, ['add', 'replace', 'remove']],
  [addChange, ['change']],
  [addRuns, ['transactions', 'run']],
  [addDrill, ['drill']],
  [addJobs, ['jobs']],
  [addBook, ['book']],
  [addWaits, ['waits', 'demo']],
  [addTokens, ['tokens']],
]

/**
 * The program with all its commands; with those of one kind only where one of them is what the command line begins with, since making
 * all of them takes longer than most commands take.
 */
export function createProgram(context: CommandContext, asked?: string): Command {
  const program = new Command('ledgerman')
    .description('Change existing PostgreSQL records, and prove what was changed.')
    .option('--version', 'print the version')
    .option('--json', 'print JSON, for programs')
    .option('-t, --target <name>', 'the target to work on (LEDGERMAN_TARGET; not needed where there is only one)')
    .configureOutput({
      writeOut: context.terminal.out,
      // For programs a usage error is printed as JSON, by whoever catches it.
      writeErr: (text) => (process.argv.includes('--json') ? undefined : context.terminal.err(text)),
    })
    .configureHelp({ showGlobalOptions: true })
    .showHelpAfterError('(--help tells more)')
    .addHelpText(
      'after',
      `
A first session on the demo observatory:
  ledgerman login http://127.0.0.1:4680 --token-file .ledgerman/admin-token
  ledgerman find programme --limit 10
  ledgerman load programme P-107
  ledgerman change programme P-107 hoursLeft=14.50            rehearsed: nothing is kept
  ledgerman change programme P-107 hoursLeft=14.50 --commit
  ledgerman book list

Exit codes: 0 done · 1 failed · 2 usage · 3 not found · 4 ambiguous or wrong count · 5 changed meanwhile ·
6 rule or constraint · 7 lock or time limit · 8 not allowed · 9 unreachable · 10 a drill that tried nothing`,
    )
  program.on('option:version', () => {
    context.terminal.out(`${readVersion()}\n`)
    throw new CommanderError(0, 'commander.version', 'printed')
  })
  const needed = COMMANDS.filter(([, names]) => names.includes(asked ?? ''))
  for (const [add] of needed.length > 0 ? needed : COMMANDS) add(program, context)
  exitByThrowing(program)
  return program
}

/** Options that may be given several times, since each takes what the ones before it gave. */
const REPEATABLE = new Set(['param', 'null', 'compute', 'with', 'invariant'])

/** Refuses an option with two values: the first would be dropped, and a condition with it. */
function refuseTwice(command: Command): void {
  for (const option of command.options) {
    if (option.isBoolean() || option.variadic || REPEATABLE.has(option.name())) continue
    let count = 0
    command.on(`option:${option.name()}`, () => {
      if (++count > 1)
        command.error(`error: option '${option.flags}' is given twice. Say once what is meant.`, { exitCode: 2 })
    })
  }
}

/** Usage errors are thrown, so that they get this program's own exit code. */
function exitByThrowing(command: Command): void {
  command.exitOverride()
  refuseTwice(command)
  for (const each of command.commands) {
    each.configureOutput(command.configureOutput()).configureHelp({ showGlobalOptions: true })
    exitByThrowing(each)
  }
}
