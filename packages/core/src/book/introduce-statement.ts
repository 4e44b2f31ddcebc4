import { createHash } from 'node:crypto'
import type { StepKind } from '@ledgerman/contract'
import type { Mapping, Property } from '../mapping/mapping.js'
import type { KeyedStatement } from '../statement/keyed-statement.js'
import type { Statement } from '../statement/statement.js'
import type { Target } from '../target/target.js'

/**
 * Sees to it that the statement's text stands in the book before an entry refers to it: once a process and target, so it
 * costs the change itself nothing. Written on its own; a text that no entry refers to does no harm.
 */
export async function introduceStatement(target: Target, mapping: Mapping, keyed: KeyedStatement): Promise<void> {
  const id = statementId(mapping, keyed.step, keyed.kind)
  if (target.knownStatements.has(id)) return
  // Of callers who come at once the first one writes it for all.
  let introducing = underWay.get(target)
  if (!introducing) underWay.set(target, (introducing = new Map()))
  let going = introducing.get(id)
  if (!going) {
    going = writeStatement(target, mapping, keyed, id).finally(() => introducing.delete(id))
    introducing.set(id, going)
  }
  await going
}

const underWay = new WeakMap<Target, Map<string, Promise<void>>>()

async function writeStatement(
  target: Target,
  mapping: Mapping,
  { kind, step: statement, touched }: KeyedStatement,
  id: string,
): Promise<void> {
  const binds = JSON.stringify(statement.slots.map(({ name, type }) => ({ name, type })))
  await target.query(
    `insert into ledgerman.statement (id, kind, mapping, revision, relation, key_columns, touched, text, binds)
     values ($1, $2, $3, $4, $5, $6, $7, $8, $9) on conflict (id) do nothing`,
    [
      id,
      kind,
      mapping.name,
      String(mapping.revision),
      mapping.table.path,
      columnNames(mapping.key),
      columnNames(touched),
      statement.text,
      binds,
    ],
  )
  target.knownStatements.set(id, true)
}

const ids = new WeakMap<Statement, string>()

/** The statement's number in the book: 63 bits of a digest of its text and of what it belongs to. */
export function statementId(mapping: Mapping, statement: Statement, kind: StepKind): string {
  let id = ids.get(statement)
  if (id === undefined) {
    const digest = createHash('sha256')
      .update([kind, mapping.name, mapping.revision, mapping.table.path, statement.text].join('\0'))
      .digest()
    id = String(digest.readBigUInt64BE() >> 1n)
    ids.set(statement, id)
  }
  return id
}

function columnNames(properties: readonly Property[]): string {
  return `{${properties.map(({ column }) => `"${column.name.replace(/["\\]/g, '\\$&')}"`).join(',')}}`
}
