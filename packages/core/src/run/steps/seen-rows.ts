import type { Mapping } from '../../mapping/mapping.js'
import type { PlannedStep } from '../../plan/plan.js'

/** Rows that a step read or wrote: the values of all properties in order, in text form. */
export interface SeenRows {
  step: PlannedStep
  /** Null for the result of a raw statement, whose values stand in the order of its columns. */
  mapping: Mapping | null
  /** The names of a raw statement's columns. */
  columns?: readonly string[]
  rows: { before: (string | null)[] | null; after: (string | null)[] | null; isWritten: boolean }[]
}
