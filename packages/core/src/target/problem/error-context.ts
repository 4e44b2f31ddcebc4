import type { StepKind } from '@ledgerman/contract'
import type { Mapping } from '../../mapping/mapping.js'
import type { Slot, Statement } from '../../statement/statement.js'

/** What was being done when the error came, so that it can be told in the mapping's words. */
export interface ErrorContext {
  target: string
  mapping?: Mapping
  /** The slots of the statement that failed: they tell which property a refused bind belongs to. */
  slots?: readonly Slot[]
  /** The statement, where it was made with expressions: an error in one of them is told there. */
  statement?: Statement
  kind?: StepKind
  /** Whether it was done to many records, none of them named: the one that the database speaks of is told. */
  isOfMany?: boolean
  lockWaitMs?: number
  timeLimitMs?: number
}
