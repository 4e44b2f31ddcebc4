import { createHash } from 'node:crypto'
import type { StepKind } from '@ledgerman/contract'
import type { Mapping, Property } from '../mapping/mapping.js'
import type { Statement } from '../statement/statement.js'
import type { Target } from '../target/target.js'

/** A statement as the book keeps it, once: entries refer to it by number. */
export interface KeptStatement {
  kind: StepKind
  /** Null for a statement that belongs to none: a raw one, or a rule. */
  mapping: Mapping | null
  statement: Statement
  /** Properties that it sets, of a change. */
  set: readonly Property[]
  /** Properties whose images it writes. */
  touched: readonly Property[]
}

/**
 * Sees to it that these statements' texts stand in the book before an entry refers to them: once a process and target, so it
 * costs the change itself nothing. Written on its own; a text that no entry refers to does no harm.
 */
export async function introduceStatements(target: Target, statements: readonly KeptStatement[]): Promise<void> {
  const unknown = statements.filter((each) => !target.knownStatements.has(statementId(each)))
  if (unknown.length === 0) return
  // Of callers who come at once the first one writes them for all.
  let going = underWay.get(target)
  if (!going) underWay.set(target, (going = new Map()))
  const own = unknown.filter((each) => !going.has(statementId(each)))
  if (own.length > 0) {
    const ids = own.map(statementId)
    const writing = write(target, own).finally(() => ids.forEach((id) => going.delete(id)))
    for (const id of ids) going.set(id, writing)
  }
  await Promise.all(unknown.map((each) => going.get(statementId(each))))
}

const underWay = new WeakMap<Target, Map<string, Promise<void>>>()

async function write(target: Target, statements: readonly KeptStatement[]): Promise<void> {
  const rows = statements.map((each) => ({
    id: statementId(each),
    kind: each.kind,
    mapping: each.mapping?.name ?? '',
    revision: each.mapping?.revision ?? 0,
    relation: each.mapping?.table.path ?? '',
    key_columns: each.mapping?.key.map(({ column }) => column.name) ?? [],
    touched: each.touched.map(({ column }) => column.name),
    text: each.statement.text,
    binds: each.statement.slots.map(({ name, type }) => ({ name, type })),
    short: each.statement.short ?? null,
  }))
  await target.query(
    `insert into ledgerman.statement select * from jsonb_to_recordset($1::jsonb)
     as x(id bigint, kind text, mapping text, revision integer, relation text, key_columns text[], touched text[], text text, binds jsonb, short jsonb)
     on conflict (id) do nothing`,
    [JSON.stringify(rows)],
  )
  for (const { id } of rows) target.knownStatements.set(id, true)
}

const ids = new WeakMap<Statement, string>()

/**
 * The statement's number in the book: 63 bits of a digest of its text, of what it belongs to, of what its binds are called, and of the columns whose images it
 * writes: the same text can have other names in another transaction, and keep more or fewer images. It is negative where the statement gives records another key: by that such entries are found (`moved-keys.ts`).
 */
export function statementId({ kind, mapping, statement, set, touched }: KeptStatement): string {
  let id = ids.get(statement)
  if (id === undefined) {
    const digest = createHash('sha256')
      .update(
        [
          kind,
          mapping?.name,
          mapping?.revision,
          mapping?.table.path,
          statement.text,
          ...statement.slots.map(({ name }) => name),
          ...touched.map(({ column }) => column.name),
        ].join('\0'),
      )
      .digest()
    const number = digest.readBigUInt64BE() >> 1n
    const movesKey = kind === 'change' && set.some(({ key }) => key)
    ids.set(statement, (id = String(movesKey ? -1n - number : number)))
  }
  return id
}
