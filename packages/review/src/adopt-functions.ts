import type { ReviewedStatement } from '@ledgerman/contract'
import { PASTED_NAME } from './sql/placeholders.js'
import { adoptStatements, type AdoptedTransaction, type AdoptingMapping } from './adopt.js'

/** A function whose statements became a transaction. */
export interface AdoptedFunction {
  /** Where it stands: its path and its name, or its line. */
  from: string
  transaction: AdoptedTransaction
  /** What is missing in it that only the program knows when it runs; null where nothing is. */
  missing: string | null
}

const MISSING_NAME = `The program puts a name in as it runs: write which one in place of ${PASTED_NAME}.`

/** Makes a transaction of the statements of each function that changes records. `loadSqlGrammar` has to have been awaited. */
export function adoptFunctions(
  statements: readonly ReviewedStatement[],
  mappings: readonly AdoptingMapping[],
): AdoptedFunction[] {
  const taken = new Set<string>()
  return [...byFunction(statements)].flatMap(([from, own]) => {
    const name = freeName(from.split(':').at(-1) ?? '', taken)
    const transaction = adoptStatements(name, own, mappings)
    if (!transaction) return []
    taken.add(name)
    const isWhole = !JSON.stringify(transaction.steps).includes(PASTED_NAME)
    return [{ from, transaction, missing: isWhole ? null : MISSING_NAME }]
  })
}

/** Statements by the function they stand in; of SQL files each on its own. */
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
      .replace(/^-+|(?<!-)-+$/g, '')
      .toLowerCase() || 'adopted'
  let free = /^[a-z]/.test(plain) ? plain : `adopted-${plain}`
  for (let number = 2; taken.has(free); number++) free = `${plain}-${number}`
  return free
}
