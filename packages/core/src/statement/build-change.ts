import type { Mapping, Property } from '../mapping/mapping.js'
import { readSql, storedSql } from '../values/sql-form.js'
import { bookInsertSql } from './book-sql.js'
import { guardHoldsSql, guardValueSql } from './guard-sql.js'
import { keyConditionSql } from './key-sql.js'
import { SlotList, toStatement, type Statement } from './statement.js'

/** A keyed change, built: the statement and the shape of the one row it gives. */
export interface ChangeStatement {
  /** What receipts show, and what a rehearsal runs: the change itself. */
  step: Statement
  /** What is run: the same, with the part that writes the entry where it is booked. Its slots begin with those of `step`. */
  run: Statement
  set: Property[]
  /** Properties whose values can differ afterwards: those set, the version, and all where triggers or generated columns write. */
  touched: Property[]
  guarded: boolean
  booked: boolean
}

export interface ChangeOptions {
  /** Whether a guard is checked; false only where the caller said that any state of the record will do. */
  guarded: boolean
  /** Whether the statement writes its own entry into the book. */
  booked: boolean
}

/**
 * Builds a keyed change as one statement that locks, judges, writes and books.
 *
 * The row is locked and read first, and changed from what was locked: with the judgement on the table's own columns a
 * caller who waited for the lock would be judged by the state before the wait. A row whose image would not differ is not
 * written. The book's row is written only where the change was; a row that should have been written and was not raises,
 * so that nothing a trigger did in its place stays behind.
 *
 * Row shape: every property before, in order; whether the guard holds; whether the image differs; whether it was written;
 * the guard before and after; the database's time; then every touched property after.
 */
export function buildChange(mapping: Mapping, set: Property[], { guarded, booked }: ChangeOptions): ChangeStatement {
  const step = changeStatement(mapping, set, guarded, false, new SlotList())
  const run = booked ? changeStatement(mapping, set, guarded, true, new SlotList()) : step
  return { step, run, set, touched: touchedBy(mapping, set), guarded, booked }
}

function changeStatement(
  mapping: Mapping,
  set: Property[],
  guarded: boolean,
  booked: boolean,
  slots: SlotList,
): Statement {
  const touched = touchedBy(mapping, set)
  const extra = freshNames(mapping, ['actor', 'guard_holds', 'differs', 'guard', 'written'])
  const stored = new Map(set.map((property) => [property, storedValue(property, slots)]))
  const keyCondition = keyConditionSql(mapping, 't', slots)
  const columns = mapping.properties.map(({ column }) => `t.${column.sql}`)
  const before = set.map(({ column }) => `t.${column.sql}`)
  const actor = slots.add({ name: ':actor', type: 'text', sensitive: false, source: { from: 'actor' } })
  const keyJoin = mapping.key.map(({ column }) => `t.${column.sql} = hit.${column.sql}`).join(' and ')
  const book = booked
    ? `, ${bookInsertSql({ mapping, touched, slots, written: extra.written, guardHolds: extra.guard_holds, differs: extra.differs })}`
    : ''
  const raise = booked
    ? `case when hit.${extra.guard_holds} and hit.${extra.differs} and done.${extra.written} is null then ledgerman.refuse('row-not-written') end`
    : 'null::boolean'

  const text = `with hit as (
  select ${columns.join(', ')},
    ${guarded ? guardHoldsSql(mapping.guard, 't', slots) : 'true'} as ${extra.guard_holds},
    record_image_ne(row(${before.join(', ')}), row(${[...stored.values()].join(', ')})) as ${extra.differs},
    ${guardValueSql(mapping.guard, 't')} as ${extra.guard},
    set_config('ledgerman.actor', ${actor}::text, true) as ${extra.actor}
  from ${mapping.table.sql} as t
  where ${keyCondition}
  for ${changesKey(mapping, set) ? 'update' : 'no key update'}
), done as (
  update ${mapping.table.sql} as t
  set ${assignments(mapping, stored).join(', ')}
  from hit
  where ${keyJoin} and hit.${extra.guard_holds} and hit.${extra.differs}
  returning ${[...touched.map(({ column }) => `t.${column.sql}`), `${guardAfterSql(mapping)} as ${extra.guard}`, `true as ${extra.written}`].join(', ')}
)${book}
select ${mapping.properties.map(({ column }) => readSql(`hit.${column.sql}`, column.type)).join(', ')},
  hit.${extra.guard_holds}, hit.${extra.differs}, done.${extra.written}, hit.${extra.guard}, done.${extra.guard}, now(), ${raise},
  ${touched.map(({ column }) => readSql(`done.${column.sql}`, column.type)).join(', ')}
from hit left join done on true`
  return toStatement(text, slots)
}

function storedValue({ name, column, sensitive }: Property, slots: SlotList): string {
  return storedSql(
    slots.add({ name, type: column.type.sql, sensitive, source: { from: 'set', property: name } }),
    column.type,
  )
}

function assignments({ guard }: Mapping, stored: ReadonlyMap<Property, string>): string[] {
  const list = [...stored].map(([{ column }, value]) => `${column.sql} = ${value}`)
  if (guard.by === 'version' && guard.bumpedBy === 'ledgerman')
    list.push(`${guard.property.column.sql} = hit.${guard.property.column.sql} + 1`)
  return list
}

function touchedBy(mapping: Mapping, set: Property[]): Property[] {
  const { table, guard, properties } = mapping
  const othersWrite =
    table.triggers.length > 0 || table.kind === 'view' || table.columns.some((column) => column.generated)
  if (othersWrite) return properties
  return properties.filter(
    (property) => set.includes(property) || (guard.by === 'version' && guard.property === property),
  )
}

/** Whether PostgreSQL will take the stronger row lock: it does where a column of a unique index is set. */
function changesKey({ table }: Mapping, set: Property[]): boolean {
  return (
    table.kind === 'view' ||
    set.some(({ column }) => table.uniques.some((unique) => unique.columns.includes(column.name)))
  )
}

/**
 * The guard of the row as written. A row's stamp is the id of the transaction that wrote it, which is this one; RETURNING
 * itself cannot give xmin for every kind of table.
 */
function guardAfterSql({ guard }: Mapping): string {
  return guard.by === 'stamp' ? 'pg_current_xact_id()::xid::text' : guardValueSql(guard, 't')
}

/** Names for the extra columns that no column of the table has. */
function freshNames<N extends string>(mapping: Mapping, names: N[]): Record<N, string> {
  const taken = new Set(mapping.table.columns.map((column) => column.name))
  return Object.fromEntries(
    names.map((name) => {
      let fresh: string = name
      while (taken.has(fresh)) fresh += '_'
      return [name, fresh]
    }),
  ) as Record<N, string>
}
