import type { ValueType } from '../values/value-type.js'
import type { Property } from '../mapping/mapping.js'
import { computedSql, storedSql } from '../values/sql-form.js'
import type { Finder } from './build-load-step.js'
import { comparableImageSql } from './image-sql.js'
import type { Joins } from './joins.js'
import { valueSql, type NamedExpression, type Surroundings } from './record-scope.js'
import type { SlotList, Statement } from './statement.js'

/** How a property gets its new value: a literal one, checked already, or an expression. */
export type NewValue = { property: Property } & ({ text: string | null } | { expression: NamedExpression })

export interface WriteShape {
  kind: 'change' | 'replace' | 'remove'
  finder: Finder
  values: readonly NewValue[]
  expected: readonly NewValue[]
  guarded: boolean
  skipLocked: boolean
  /** Whether it has to be found out that the condition leaves rows out. */
  checksLeftOut: boolean
}

export interface AddShape {
  kind: 'add'
  values: readonly NewValue[]
  onExisting: 'refuse' | 'keep' | 'change'
  /** Whether the record is looked for first: to be changed, or for a later step that reads the one that was kept. */
  looks: boolean
}

/** Whether a step changes the record where it is there already. */
export function mayChange(shape: WriteShape | AddShape): boolean {
  return shape.kind !== 'add' || shape.onExisting === 'change'
}

/**
 * The statements that written code sends for a step that writes. Direct ones write one record where it may be written, and would differ: their row is every
 * property, as written or as removed, where a later step reads them, its guard, and the number of the rule that it breaks, from 1.
 */
export interface WriteInCode {
  write: Statement
  /** The same, from the row as it was locked, with the part that writes the images. */
  booked: Statement
  /**
   * Locks the row that was not written, and tells why: every property, its guard, whether it may be written, whether it would differ. Null where `write` tells
   * itself, or adds.
   */
  look: Statement | null
  /** Whether they are direct; elsewhere `write` tells what it judged as well. */
  isDirect: boolean
}

/** The SQL of a new value, cast as its column stores it. */
export function newValueSql(value: NewValue, joins: Joins | null, slots: SlotList, surroundings: Surroundings): string {
  const { property } = value
  const { type } = property.column
  if ('text' in value) {
    const placeholder = slots.add({
      name: property.name,
      type: type.sql,
      sensitive: property.sensitive,
      source: { from: 'value', text: value.text, at: property.name },
    })
    return storedSql(placeholder, type)
  }
  const wanted: ValueType = { sql: type.comparable, column: type, sensitive: property.sensitive }
  return computedSql(valueSql(value.expression, joins, slots, surroundings, wanted), type)
}

/** Whether the row under `t` has the values that were expected. */
export function expectedSql(expected: readonly NewValue[], slots: SlotList): string {
  if (expected.length === 0) return 'true'
  return comparableImageSql(
    expected.map(({ property }) => property),
    't',
    slots,
  )
}
