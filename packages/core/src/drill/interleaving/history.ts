import type { RecordValues } from '@ledgerman/contract'

/** A row that a step read or wrote: which one, and what of it. */
export interface SeenRow {
  /** The table and the key: what makes it the same row for every run, and whatever mapping it is seen by. */
  item: string
  /** The same in other orders, where a number that it was added with is another one. */
  counterpart: string
  /** The same for people. */
  label: string
  mapping: string
  key: RecordValues
  before: RecordValues | null
  after: RecordValues | null
  isWritten: boolean
  /** The properties whose new values do not come from the row as it was when it was written. */
  blind: readonly string[]
}

/** One thing that happened in a schedule. */
export interface HistoryEvent {
  /** The number of the run. */
  run: number
  step: number | 'commit'
  kind: string
  mapping: string | null
  message: string
  action: 'ran' | 'waits' | 'went on' | 'refused'
  /** Which rows fit a condition is asked by it, rather than one row by its key. */
  isByCondition: boolean
  /** A statement of the transaction's own, which does not tell what rows it writes. */
  writesUnseen: boolean
  rows: SeenRow[]
  matched: number | null
}

/** What became of a schedule. */
export interface Trial {
  events: HistoryEvent[]
  /** For each run: whether it sees the rows as they were at its first statement, whenever it looks. */
  hasSnapshot: boolean[]
  /** For each run: null where it was committed, else the code of its refusal. */
  refusals: (string | null)[]
  /** What differs from the beginning, by row; values that chance or the clock decides are left out. */
  final: ReadonlyMap<string, string>
}
