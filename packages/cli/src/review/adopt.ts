import { existsSync, mkdirSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import colors from 'picocolors'
import type { Command } from 'commander'
import { isProblem, type Review, type ReviewedStatement } from '@ledgerman/contract'
import { stringify } from 'yaml'
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
  const { adoptStatements, loadSqlGrammar } = await loadReview()
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
  const taken = new Set<string>()
  const adopted: Adopted[] = []
  for (const [from, statements] of byFunction(review.statements)) {
    const name = freeName(from.split(':').at(-1) ?? '', taken)
    const transaction = adoptStatements(name, statements, adopting)
    if (!transaction) continue
    taken.add(name)
    const file = join(dir, `${name}.yaml`)
    const source = stringify(transaction, { lineWidth: 120 })
    const problem = await target.publish([{ source }], { check: true }).then(
      () => null,
      (error: unknown) => {
        if (isProblem(error)) return error.detail
        throw error
      },
    )
    if (existsSync(file)) adopted.push({ file, from, problem: 'there is a file of that name, which was left' })
    else {
      writeFileSync(file, source)
      adopted.push({ file, from, problem })
    }
  }
  context.print(command, { adopted }, () => format(dir, adopted))
  if (adopted.some(({ problem }) => problem !== null)) process.exitCode = 6
}

/** Statements by the function they stand in; of SQL files each by itself. */
function byFunction(statements: readonly ReviewedStatement[]): Map<string, ReviewedStatement[]> {
  const groups = new Map<string, ReviewedStatement[]>()
  for (const statement of statements) {
    const key = `${statement.path}:${statement.function ?? `line ${statement.line}`}`
    groups.set(key, [...(groups.get(key) ?? []), statement])
  }
  return groups
}

function freeName(name: string, taken: ReadonlySet<string>): string {
  const plain =
    name
      .replace(/([a-z0-9])([A-Z])/g, '$1-$2')
      .replace(/[^A-Za-z0-9]+/g, '-')
      .replace(/^-+|-+$/g, '')
      .toLowerCase() || 'adopted'
  let free = /^[a-z]/.test(plain) ? plain : `adopted-${plain}`
  for (let number = 2; taken.has(free); number++) free = `${plain}-${number}`
  return free
}

function format(dir: string, adopted: readonly Adopted[]): string {
  if (adopted.length === 0) return 'No function changes records: nothing was written.'
  const lines = adopted.map(
    ({ file, from, problem }) =>
      `${problem === null ? colors.green('fits') : colors.yellow('does not fit')}  ${file}  ${colors.dim(`from ${from}`)}${problem === null ? '' : `\n  ${problem}`}`,
  )
  return `${lines.join('\n')}\n\n${colors.dim(`Then: ledgerman publish ${dir}, ledgerman run NAME …, ledgerman emit DIR --transaction NAME`)}`
}
