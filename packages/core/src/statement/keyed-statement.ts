import type { StepKind } from '@ledgerman/contract'
import type { Mapping, Property } from '../mapping/mapping.js'
import { readSql, storedSql } from '../values/sql-form.js'
import { guardValueSql } from './guard-sql.js'
import { ruleVerdictSql } from './rule-sql.js'
import type { SlotList, Statement } from './statement.js'

/** The kinds of step that write one record found, or made, by its key. */
export type KeyedKind = Extract<StepKind, 'change' | 'replace' | 'add' | 'remove'>

/**
 * A step that writes one record, built. The statement gives one row, or none where the key found nothing:
 *
 * every property before, in order (nothing for `add`); then the flags of `FLAGS`; then every touched property after.
 */
export interface KeyedStatement {
  kind: KeyedKind
  /** What receipts show, and what a rehearsal runs: the step itself. */
  step: Statement
  /** What is run: the same, with the part that writes the entry where it is booked. Its slots begin with those of `step`. */
  run: Statement
  /** The booked statement for callers who ask at the same time; undefined where each has to ask alone. */
  shared?: Statement | undefined
  set: Property[]
  /** Properties whose values can differ afterwards. */
  touched: Property[]
}

/** The columns between the values before and the values after, in order. `verdict` is one letter, t or f, for each of `VERDICTS`. */
export const FLAGS = ['verdict', 'guardBefore', 'guardAfter', 'brokenRule'] as const
export const VERDICTS = ['guardHolds', 'asExpected', 'differs', 'written'] as const

/** Four conditions as one column: every column of a row costs the caller. */
export function verdictSql(guardHolds: string, asExpected: string, differs: string, written: string): string {
  const letter = (condition: string) => (condition === 'true' ? `'t'` : `case when ${condition} then 't' else 'f' end`)
  return [guardHolds, asExpected, differs, written].map(letter).join(' || ')
}

/**
 * Properties that a change of `set` can touch: those set, the version, and all of them where triggers, generated columns or
 * a view write more.
 */
export function touchedBy(mapping: Mapping, set: readonly Property[]): Property[] {
  const { table, guard, properties } = mapping
  if (othersWrite(table)) return properties
  return properties.filter(
    (property) => set.includes(property) || (guard.by === 'version' && guard.property === property),
  )
}

/** Whether a change may write other columns than it sets: by triggers, generated columns, a view. */
export function othersWrite({ triggers, kind, columns }: Mapping['table']): boolean {
  return triggers.length > 0 || kind === 'view' || columns.some((column) => column.generated)
}

/**
 * The condition that one row was found, where no key sees to it: a view's key is only what its mapping says, and that of a table with
 * inheritance children holds for none of their rows.
 */
export function onlyOneSql({ table }: Mapping): string[] {
  return table.kind === 'view' || table.hasChildren ? ['(select count(*) from hit) = 1'] : []
}

/** The SQL of a property's new value, bound with the cast its column stores it under. */
export function boundValueSql({ name, column, sensitive }: Property, slots: SlotList): string {
  const type = column.type
  return storedSql(slots.add({ name, type: type.sql, sensitive, source: { from: 'set', property: name } }), type)
}

export function actorSql(slots: SlotList): string {
  const actor = slots.add({ name: ':actor', type: 'text', sensitive: false, source: { from: 'actor' } })
  return `pg_catalog.set_config('ledgerman.actor', ${actor}::text, true)`
}

/**
 * The guard of the row as written. Where RETURNING cannot give xmin (partitions, views), a row's stamp is the id of the transaction that wrote it, which
 * is this one; within a savepoint it has an id of its own, and only xmin tells.
 */
export function guardAfterSql({ guard, table }: Mapping, alias: string): string {
  const hasNoStamp = guard.by === 'rowStamp' && (table.kind !== 'table' || table.hasChildren)
  return hasNoStamp ? 'pg_catalog.pg_current_xact_id()::xid::text' : guardValueSql(guard, alias)
}

/** The properties under `alias` as the statement's output gives them. */
export function outputSql(alias: string, properties: readonly Property[]): string {
  return properties.map(({ column }) => readSql(`${alias}.${column.sql}`, column.type)).join(', ')
}

/** Which rule of the mapping the row as written breaks, counted from 1; null where none. */
export function brokenRuleSql(
  mapping: Mapping,
  written: string,
  valueOf: (property: Property) => string,
  slots: SlotList,
): string {
  if (mapping.rules.length === 0) return NO_RULE
  return `case when ${written} then ${ruleVerdictSql(mapping, valueOf, slots)} end`
}

/**
 * The broken rule's column; in a booked statement it refuses by itself, and so rolls back, where a row was not written or
 * breaks a rule.
 */
export function verdictOrRaiseSql(isBooked: boolean, notWritten: string, brokenRule: string): string {
  if (!isBooked) return brokenRule
  const rule =
    brokenRule === NO_RULE
      ? ''
      : ` when ${brokenRule} is not null then ledgerman.refuse('rule-broken ' || (${brokenRule})::text)`
  return `case when ${notWritten} then ledgerman.refuse('row-not-written')${rule} end`
}

const NO_RULE = 'null::integer'

/** Whether PostgreSQL will take the stronger row lock: it does where a column of a unique index is set. */
export function changesKey({ table }: Mapping, set: readonly Property[]): boolean {
  return (
    table.kind === 'view' ||
    set.some(({ column }) => table.uniques.some((unique) => unique.columns.includes(column.name)))
  )
}

/** The lock that a row is taken with before it is written: the one that the write itself takes. */
export function lockForWrite(mapping: Mapping, set: readonly Property[], isRemove: boolean): string {
  return isRemove || changesKey(mapping, set) ? 'update' : 'no key update'
}

/**
 * Whether writing these properties may have to wait for somebody else: for a row of another table that a foreign key leads to, or for
 * a row of this one that could have the same value.
 */
export function mayWait(mapping: Mapping, set: readonly Property[]): boolean {
  const { references, uniques, hasPlainKeys, columns } = mapping.table
  const written = [...set.map(({ column }) => column), ...columns.filter(({ generated }) => generated)]
  const isWritten = (key: { columns: string[] }) => written.some(({ name }) => key.columns.includes(name))
  return !hasPlainKeys || references.some(isWritten) || uniques.some(isWritten)
}

/** The key's columns of the row under an alias. */
export function keyColumns({ key }: Mapping, alias: string): string {
  return key.map(({ column }) => `${alias}.${column.sql}`).join(', ')
}

/** Names for the extra columns that no column of the table has. */
export function freshNames<N extends string>({ table }: Mapping, names: readonly N[]): Record<N, string> {
  const taken = new Set(table.columns.map((column) => column.name))
  return Object.fromEntries(
    names.map((name) => {
      let fresh: string = name
      while (taken.has(fresh)) fresh += '_'
      return [name, fresh]
    }),
  ) as Record<N, string>
}
