import { readFileSync } from 'node:fs'
import type { CodeFile } from '@ledgerman/contract'
import type { Mapping } from '../mapping/mapping.js'
import type { Plan } from '../plan/plan.js'
import { emitMapping } from './emit-mapping.js'
import { emitTransaction } from './emit-transaction.js'
import { Names } from './names.js'

const SUPPORT = new URL('../../templates/support.ts', import.meta.url)

/**
 * Writes data-access code for mappings and transactions: TypeScript for node-postgres, a file each, `support.ts` and `index.ts`.
 * The same definitions give the same text.
 */
export function emitCode(mappings: readonly Mapping[], plans: readonly (Plan & { name: string })[]): CodeFile[] {
  const names = new Names()
  const files = [
    ...inOrder(mappings).map((mapping) => {
      const named = names.mapping(mapping)
      return { path: named.file, text: emitMapping(named) }
    }),
    ...inOrder(plans).map((plan) => {
      const named = names.transaction(plan.name)
      return { path: named.file, text: emitTransaction(plan, named) }
    }),
  ]
  const exports = files.map(({ path }) => `export * from './${path.replace(/\.ts$/, '.js')}'\n`)
  const support = `// Written by Ledgerman: errors, the transaction boundary, and how values become PostgreSQL's texts and back. It needs node-postgres only.\n${readFileSync(SUPPORT, 'utf8')}`
  return [
    ...files,
    { path: 'support.ts', text: support },
    { path: 'index.ts', text: `// Written by Ledgerman: all that the other files have.\n${exports.join('')}${INDEX}` },
  ].map(({ path, text }) => ({ path, text: `${text.trimEnd()}\n` }))
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
} from './support.js'
export type { Db, Loaded, Written } from './support.js'
`

function inOrder<T extends { name: string }>(items: readonly T[]): T[] {
  return [...items].sort((one, other) => (one.name < other.name ? -1 : one.name > other.name ? 1 : 0))
}
