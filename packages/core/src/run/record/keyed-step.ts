import type { LockHolder, Receipt, RecordValues, RunMode } from '@ledgerman/contract'
import type { BookedRequest } from '../../book/book-run.js'
import type { GuardCondition } from '../../mapping/guard-value.js'
import type { KeyTexts } from '../../mapping/mapping.js'
import type { KeyedStatement } from '../../statement/keyed-statement.js'
import type { WriteSet } from './change-input.js'

/** Who runs a step, and whether for good. */
export interface RunOptions {
  mode: RunMode
  actor: string
  note?: string
  /** A request that must take effect once: its key, and a digest of all it asks. */
  request?: BookedRequest | undefined
  /** Told while the step waits for a lock. */
  onWait?: (holders: LockHolder[]) => void
}

/** A step on one record: the built statement, and all that its slots are filled with. */
export interface KeyedStep {
  statement: KeyedStatement
  key: KeyTexts
  set: WriteSet
  expected: WriteSet
  guard: GuardCondition
  /** What the caller wants to set and what they loaded, as they said it, for showing a conflict. */
  yours: RecordValues
  loaded: RecordValues
}

export interface KeyedResult {
  /** The record as it is now, or would be; as it was, where it was removed. */
  record: RecordValues
  guard: string | null
  receipt: Receipt
}
