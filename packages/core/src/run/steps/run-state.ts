import type { Json } from '@ledgerman/contract'
import type { Mapping } from '../../mapping/mapping.js'

/** What an attempt has so far: parameters, what was loaded, what the steps matched and changed. */
export interface RunState {
  entry: string
  actor: string
  params: ReadonlyMap<string, string | null>
  /** The parameters as they were given, for those that have no type of their own. */
  given: Readonly<Record<string, Json>>
  loaded: Map<string, LoadedRow>
  outcomes: Map<string, { matched: number; changed: number }>
}

/** One loaded record: its values in text form, in the mapping's order, and its guard's value. */
export interface LoadedRow {
  mapping: Mapping
  texts: readonly (string | null)[]
  guard: string | null
}

export function loadedText(state: RunState, name: string, property: string): string | null {
  const row = state.loaded.get(name)
  const at = row?.mapping.properties.findIndex((each) => each.name === property) ?? -1
  return row?.texts[at] ?? null
}
