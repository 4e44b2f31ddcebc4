import { existsSync, mkdirSync, readdirSync, readFileSync, rmdirSync, rmSync } from 'node:fs'
import { dirname, join } from 'node:path'
import colors from 'picocolors'
import type { Command } from 'commander'
import type { TargetClient } from '@ledgerman/client'
import { LedgermanProblem, type CodeFile, type CodeInput, type CodeProof } from '@ledgerman/contract'
import { countOf } from '@ledgerman/client'
import type { CommandContext } from '../command-context.js'
import { replaceFile } from '../replace-file.js'
import { formatProof } from '../output/proof-text.js'

/** What every file begins with that was written here: others in the folder are left alone. */
const MARK = '// Written by Ledgerman'

export function addEmit(program: Command, context: CommandContext): void {
  program
    .command('emit')
    .description(
      'Write data-access code from the definitions: TypeScript for node-postgres, for all of them or those named.',
    )
    .argument('<dir>', 'the folder to write into')
    .option('--mapping <name...>', 'these mappings')
    .option('--transaction <name...>', 'these transactions')
    .option('--book', "have the code write entries to the target's book")
    .option(
      '--prove',
      'then run the examples, and a few records, through the service and through the code in a scratch database, and compare; exit 1 where they differ',
    )
    .option('--check', 'write nothing; exit 1 where the folder does not have what would be written')
    .addHelpText(
      'after',
      `\nExamples:\n  ledgerman emit src/data --mapping programme --transaction move-hours\n  ledgerman emit src/data --check\n  ledgerman emit src/data --prove`,
    )
    .action(async (dir: string, { mapping, transaction, book, check, prove }: EmitFlags, command: Command) => {
      const target = await context.target(command)
      const subjects = { mappings: mapping, transactions: transaction, ...(book ? { book } : {}) }
      const files = await target.code(subjects)
      const changes = compare(dir, files)
      if (!check) write(dir, changes)
      const proof = prove ? await follow(context, target, subjects) : undefined
      const state = { dir, files: changes.map(({ path, state }) => ({ path, state })) }
      context.print(command, proof ? { ...state, proof } : state, () =>
        [format(dir, changes, check ?? false), ...(proof ? [formatProof(proof)] : [])].join('\n\n'),
      )
      const isDifferent = check && changes.some(({ state }) => state !== 'same')
      if (isDifferent || proof?.passed === false) process.exitCode = 1
    })
}

/** Proves the code, and shows how far that is on a terminal. */
async function follow(context: CommandContext, target: TargetClient, subjects: CodeInput): Promise<CodeProof> {
  const proof = await target.proveCode(subjects, ({ done, total, what }) =>
    context.showProgress(`${done} of ${total}: ${what}`),
  )
  context.showProgress('')
  return proof
}

interface EmitFlags {
  prove?: boolean
  mapping?: string[]
  transaction?: string[]
  book?: boolean
  check?: boolean
}

interface Change {
  path: string
  text: string
  state: 'same' | 'new' | 'changed' | 'gone'
}

/** What would become of the folder. @throws LedgermanProblem request-invalid where a file of that name is somebody else's */
function compare(dir: string, files: CodeFile[]): Change[] {
  const written = files.map(({ path, text }): Change => {
    const file = join(dir, path)
    if (!existsSync(file)) return { path, text, state: 'new' }
    const there = readFileSync(file, 'utf8')
    if (there === text) return { path, text, state: 'same' }
    if (!there.startsWith(MARK))
      throw new LedgermanProblem(
        'request-invalid',
        `${file} was not written by Ledgerman. Choose another folder, or move it away.`,
        {
          where: 'dir',
        },
      )
    return { path, text, state: 'changed' }
  })
  const names = new Set(files.map(({ path }) => path))
  const gone = FOLDERS.flatMap((folder) => filesIn(join(dir, folder)).map((name) => join(folder, name)))
    .filter(
      (path) => path.endsWith('.ts') && !names.has(path) && readFileSync(join(dir, path), 'utf8').startsWith(MARK),
    )
    .map((path): Change => ({ path, text: '', state: 'gone' }))
  return [...written, ...gone]
}

/** The folders that written code has: `book` is there with entries only. */
const FOLDERS = ['.', 'support', 'book']

function filesIn(folder: string): string[] {
  if (!existsSync(folder)) return []
  return readdirSync(folder, { withFileTypes: true }).flatMap((each) => (each.isDirectory() ? [] : [each.name]))
}

function write(dir: string, changes: Change[]): void {
  for (const { path } of changes) mkdirSync(dirname(join(dir, path)), { recursive: true })
  for (const { path, text, state } of changes) {
    if (state === 'gone') rmSync(join(dir, path))
    else if (state !== 'same') replaceFile(join(dir, path), text)
  }
  for (const folder of FOLDERS.slice(1).map((each) => join(dir, each)))
    if (existsSync(folder) && readdirSync(folder).length === 0) rmdirSync(folder)
}

function format(dir: string, changes: Change[], isCheck: boolean): string {
  const differing = changes.filter(({ state }) => state !== 'same')
  if (differing.length === 0) return `${dir} is as the definitions say: ${countOf(changes.length, 'file')}.`
  const words = isCheck
    ? { new: 'missing', changed: 'differs', gone: 'not needed any more' }
    : { new: 'written', changed: 'rewritten', gone: 'removed' }
  const lines = differing.map(({ path, state }) => `${colors.yellow(words[state as 'new'])}  ${join(dir, path)}`)
  const last = isCheck
    ? `${dir} is not as the definitions say. The same command without --check writes it.`
    : `${countOf(changes.filter(({ state }) => state !== 'gone').length, 'file')} in ${dir}`
  return `${lines.join('\n')}\n\n${last}`
}
