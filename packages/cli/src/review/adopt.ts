import { existsSync, mkdirSync } from 'node:fs'
import { join } from 'node:path'
import colors from 'picocolors'
import type { Command } from 'commander'
import { isProblem, type Review } from '@ledgerman/contract'
import { stringify } from 'yaml'
import { replaceFile } from '../replace-file.js'
import type { CommandContext } from '../command-context.js'
import { loadReview } from './load-review.js'

interface Adopted {
  file: string
  from: string
  /** What does not fit; null where it can be published. */
  problem: string | null
}

/** Writes a transaction for the statements of each function that changes records, and has it checked against the target. */
export async function adoptAll(context: CommandContext, command: Command, dir: string, review: Review): Promise<void> {
  const { adoptFunctions, loadSqlGrammar } = await loadReview()
  await loadSqlGrammar()
  const target = await context.target(command)
  const mappings = await Promise.all((await target.mappings()).map(({ name }) => target.mapping(name)))
  const adopting = mappings.map(({ name, table, key, definition, properties }) => ({
    name,
    table,
    key,
    guard: definition.guard ?? { by: 'none' },
    properties: properties ?? [],
  }))
  mkdirSync(dir, { recursive: true })
  const adopted: Adopted[] = []
  for (const { from, transaction, missing } of adoptFunctions(review.statements, adopting)) {
    const file = join(dir, `${transaction.transaction}.yaml`)
    const source = stringify(transaction, { lineWidth: 120 })
    const problem =
      missing ??
      (await target.publish([{ source }], { check: true }).then(
        () => null,
        (error: unknown) => {
          if (isProblem(error)) return error.detail
          throw error
        },
      ))
    if (existsSync(file)) adopted.push({ file, from, problem: 'there is a file of that name, which was left' })
    else {
      replaceFile(file, source)
      adopted.push({ file, from, problem })
    }
  }
  context.print(command, { adopted }, () => format(dir, adopted))
  if (adopted.some(({ problem }) => problem !== null)) process.exitCode = 6
}

function format(dir: string, adopted: readonly Adopted[]): string {
  if (adopted.length === 0) return 'No function changes records: nothing was written.'
  const lines = adopted.map(
    ({ file, from, problem }) =>
      `${problem === null ? colors.green('fits') : colors.yellow('does not fit')}  ${file}  ${colors.dim(`from ${from}`)}${problem === null ? '' : `\n  ${problem}`}`,
  )
  return `${lines.join('\n')}\n\n${colors.dim(`Then: ledgerman publish ${dir}, ledgerman run NAME …, ledgerman emit DIR --transaction NAME`)}`
}
