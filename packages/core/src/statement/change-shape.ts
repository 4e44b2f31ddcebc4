import type { Property } from '../mapping/mapping.js'
import type { MergePlan } from './merge-sql.js'

/** What a change sets, and on which conditions. */
export interface ChangeShape {
  kind: 'change' | 'replace'
  set: readonly Property[]
  /** For those of `set` that are json and of which only parts are set: which parts. */
  merges: ReadonlyMap<Property, MergePlan>
  /** Properties that have to have the bound values, or nothing is written. */
  expected: readonly Property[]
  /** Whether a guard is checked; false only where the caller said that any state of the record will do. */
  guarded: boolean
}
