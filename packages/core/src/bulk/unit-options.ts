import { type Expectation, type FailedRow, type JobReport } from '@ledgerman/contract'

import type { BulkStep } from './book-bulk.js'
import { type BulkEvidence } from './bulk-request.js'

/** Rows of a file by number, from 1: the first and the last. */
export interface RowRange {
  first: number
  last: number
}

export interface UnitOptions {
  expect: Expectation
  /** Rows that cannot be applied are left, and told; elsewhere one of them ends the whole. */
  leavesFailed: boolean
  /** Whether images are written to the book. */
  isBooked: boolean
  entry: string
  range: RowRange
  /** How many rows of the file that is, less those whose key stands there twice. */
  count: number
  /** What a rehearsal saw of them, where exactly that is to be committed. */
  rehearsed?: BulkEvidence | undefined
  /** Whether it is told what was found, where somebody else compares it with what was rehearsed. */
  isWitnessed?: boolean
  /**
   * Whether keys may stand in the file more than once: then all that can go on is what shows that none does, a row written for each one
   * given. @see KeysUnchecked
   */
  areKeysUnchecked?: boolean
  /** Whether it is only judged, and nothing written: whether a file that goes in chunks is as it was rehearsed. */
  isOnlyJudged?: boolean
}

/** A part did not write a row for each one given, and nobody has looked yet whether keys stand in the file more than once. */
export class KeysUnchecked extends Error {
  override readonly name = 'KeysUnchecked'
}

/** What a part of a change of many did, inside the transaction that somebody else began. */
export interface UnitResult {
  report: JobReport
  failed: FailedRow[]
  evidence: BulkEvidence
  steps: BulkStep[]
}
