import { Command } from 'commander'
import { Failure } from './failure.js'
import { readSettings } from './settings.js'
import { start, type StartOptions } from './start.js'
import { test } from './test.js'

const program = new Command('ledgerman-local').description(
  'What bin/start and bin/test call once everything is installed.',
)

program
  .command('start')
  .usage('[options]   (called as bin/start)')
  .description('Start PostgreSQL, the demo observatory and the service.')
  .option('--reset', 'remove all data first and start afresh', false)
  .option(
    '--target <NAME=URL>',
    'add a database of your own: NAME=postgres://…, NAME=env:VARIABLE or NAME=file:PATH (repeatable)',
    (value: string, all: string[]) => [...all, value],
    [],
  )
  .addHelpText(
    'after',
    `
Environment:
  LEDGERMAN_PORT      the service's port (4680)
  LEDGERMAN_HOST      where the service listens (127.0.0.1)
  LEDGERMAN_PG_PORT   the port of its own PostgreSQL (54680)
  LEDGERMAN_DATA_DIR  where everything is kept (.ledgerman)

A password on the command line can be seen in the process list; env: and file: keep it out:
  SURVEY_URL=postgres://… bin/start --target survey=env:SURVEY_URL`,
  )
  .action((options: StartOptions) => start(readSettings(process.env), options))

program
  .command('test')
  .argument('[projects...]', 'pure, core, service, cli, console')
  .option('-t, --only <words>', 'only tests whose name holds these words')
  .action(async (projects: string[], options: { only?: string }) => {
    if (!(await test(readSettings(process.env), projects, options.only))) process.exitCode = 1
  })

program.parseAsync().catch((error: unknown) => {
  // What the system has against a file says itself what to mend.
  const isPlain = error instanceof Failure || (error instanceof Error && 'syscall' in error)
  process.stderr.write(
    isPlain ? `ledgerman: ${error.message}\n` : `ledgerman: ${error instanceof Error ? error.stack : String(error)}\n`,
  )
  process.exitCode = 1
})
