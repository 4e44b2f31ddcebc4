import { SlotList, type Slot } from './statement.js'

/**
 * The slots of a statement that several callers share: each slot is a column of the rows that they ask with, and its one bind an
 * array with a value for each caller.
 */
export class AskedSlots extends SlotList {
  override add(slot: Slot): string {
    return askedColumn(super.add(slot))
  }
}

/** The column that a placeholder `$n` is. */
export function askedColumn(placeholder: string): string {
  return `asked.b${placeholder.slice(1)}`
}

/**
 * The rows that are asked with, as an item of `from`; `asked.place` numbers them from 1. Inside of `select` the planner does not see how
 * long an array is, and thinks of ten: else a plan for each small group seems better to it than one for all, and costs more than what it does.
 */
export function askedSql({ slots }: SlotList): string {
  const arrays = slots.map((_, at) => `pg_catalog.unnest((select $${at + 1}::text[]))`)
  const columns = slots.map((_, at) => `b${at + 1}`)
  return `rows from (${arrays.join(', ')}) with ordinality as asked(${columns.join(', ')}, place)`
}
