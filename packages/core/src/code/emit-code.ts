import { readFileSync } from 'node:fs'
import type { CodeFile } from '@ledgerman/contract'
import type { ResolvedFind } from '../plan/resolve-find.js'
import type { Mapping } from '../mapping/mapping.js'
import type { Plan } from '../plan/plan.js'
import { emitMapping } from './emit-mapping.js'
import { emitTransaction } from './emit-transaction.js'
import { Names } from './names.js'

const TEMPLATES = new URL('../../templates/', import.meta.url)

/** Files that are copied as they are, and what their first line says of them. */
const SUPPORT = {
  'support.ts': 'what the other files share. It needs node-postgres only.',
  'support/ask.ts': 'statements, asked with values bound, and what the errors of the database mean.',
  'support/begin.ts': 'how a transaction begins, where the connections of its pool do not begin so.',
  'support/errors.ts': 'what is thrown.',
  'support/expectation.ts': 'how many rows a step may match.',
  'support/limits.ts': 'limits of a transaction, and the settings that values depend on.',
  'support/parameters.ts': 'parameters, and what is judged of them here.',
  'support/record.ts': 'one record: guards, keys, what may be given.',
  'support/step.ts': 'steps of a transaction: what they found and wrote.',
  'support/transaction.ts': 'the transaction boundary.',
  'support/values.ts': "how values become PostgreSQL's texts, and back.",
}
const BOOK = {
  'book.ts': 'entries in the book of the database, as the service writes them.',
  'book/as-one.ts': 'a transaction as one statement.',
  'book/record.ts': 'the entry of one record.',
  'book/refusals.ts': 'entries of what was refused.',
  'book/run.ts': 'the entry of a transaction.',
  'book/settings.ts': 'who changes records, and what the book may keep of values.',
  'book/statements.ts': 'statements, which the book keeps once.',
}
const BOOK_INDEX = `export { asActor, configureBook, runStepByStep } from './book.js'\n`

/**
 * Writes data-access code for mappings and transactions: TypeScript for node-postgres, a file each, `support.ts` with its parts and `index.ts`.
 * The same definitions give the same text.
 *
 * @param isBooked whether what it changes is written to the target's book, as the service writes it.
 * @param finds the finds that the mappings name.
 */
export function emitCode(
  mappings: readonly Mapping[],
  plans: readonly (Plan & { name: string })[],
  isBooked = false,
  finds: ReadonlyMap<Mapping, readonly ResolvedFind[]> = new Map(),
): CodeFile[] {
  const named = nameCode({ mappings, plans, finds })
  const files = [
    ...named.mappings.map((each) => ({ path: each.file, text: emitMapping(each, isBooked) })),
    ...named.transactions.map(({ plan, names }) => ({
      path: names.file,
      text: emitTransaction(plan, names, isBooked),
    })),
  ]
  const exports = files.map(({ path }) => `export * from './${path.replace(/\.ts$/, '.js')}'\n`)
  return [
    ...files,
    ...copied(SUPPORT),
    ...(isBooked ? copied(BOOK) : []),
    {
      path: 'index.ts',
      text: `// Written by Ledgerman: all that the other files have.\n${exports.join('')}${INDEX}${isBooked ? BOOK_INDEX : ''}`,
    },
  ].map(({ path, text }) => ({ path, text: `${text.trimEnd()}\n` }))
}

/** What code is written for. */
export interface CodeSubjects {
  mappings: readonly Mapping[]
  plans: readonly (Plan & { name: string })[]
  finds: ReadonlyMap<Mapping, readonly ResolvedFind[]>
}

/** What the functions and types of each are called: the same subjects give the same names. */
export function nameCode({ mappings, plans, finds }: CodeSubjects) {
  const names = new Names()
  return {
    mappings: inOrder(mappings).map((mapping) => names.mapping(mapping, finds.get(mapping))),
    transactions: inOrder(plans).map((plan) => ({ plan, names: names.transaction(plan.name) })),
  }
}

const INDEX = `export {
  ConstraintBroken,
  CountMismatch,
  DataError,
  LockTimeout,
  OutcomeUnknown,
  RecordAmbiguous,
  RecordChanged,
  RecordMissing,
  RetriesExhausted,
  RowNotWritten,
  RuleBroken,
  TimeLimit,
  ValueInvalid,
  POOL_SETTINGS,
  prepareStatements,
} from './support.js'
export type { Db, Loaded, Written } from './support.js'
`

function copied(files: Readonly<Record<string, string>>): CodeFile[] {
  return Object.entries(files).map(([path, about]) => ({
    path,
    text: `// Written by Ledgerman: ${about}\n${readFileSync(new URL(path, TEMPLATES), 'utf8')}`,
  }))
}

function inOrder<T extends { name: string }>(items: readonly T[]): T[] {
  return [...items].sort((one, other) => (one.name < other.name ? -1 : one.name > other.name ? 1 : 0))
}
