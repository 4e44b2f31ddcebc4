// Written by Ledgerman: what is thrown.
/** Whatever is thrown here on purpose; `code` tells the kind. */
export abstract class DataError extends Error {
  abstract readonly code: string

  constructor(message: string, options?: ErrorOptions) {
    super(message, options)
    this.name = new.target.name
  }
}

/** There is no such record. */
export class RecordMissing extends DataError {
  readonly code = 'no-such-record'
}

/** The record is not as it was loaded. */
export class RecordChanged extends DataError {
  readonly code = 'record-changed'
  readonly loaded: Readonly<Record<string, unknown>>
  readonly yours: Readonly<Record<string, unknown>>
  readonly current: Readonly<Record<string, unknown>>
  /** The guard of the record as it is now: with it the change can be tried again. */
  readonly guard: string | null

  constructor(
    message: string,
    loaded: Readonly<Record<string, unknown>>,
    yours: Readonly<Record<string, unknown>>,
    current: Readonly<Record<string, unknown>>,
    guard: string | null,
  ) {
    super(message)
    this.loaded = loaded
    this.yours = yours
    this.current = current
    this.guard = guard
  }
}

/** A step matched another number of rows than was expected. */
export class CountMismatch extends DataError {
  readonly code: 'count-mismatch' | 'record-ambiguous' = 'count-mismatch'
  readonly expected: string
  readonly matched: number

  constructor(message: string, expected: string, matched: number) {
    super(message)
    this.expected = expected
    this.matched = matched
  }
}

/** Several records fit, and one was meant. */
export class RecordAmbiguous extends CountMismatch {
  override readonly code = 'record-ambiguous'
}

/** A rule does not hold. */
export class RuleBroken extends DataError {
  readonly code = 'rule-broken'
  readonly rule: string

  constructor(message: string, rule: string) {
    super(message)
    this.rule = rule
  }
}

/** A row was found and should have been written, and was not: a trigger, or a rule of row security, kept it as it was. */
export class RowNotWritten extends DataError {
  readonly code = 'row-not-written'
}

/** A value that its column cannot hold. */
export class ValueInvalid extends DataError {
  readonly code = 'value-invalid'
  readonly property: string

  constructor(property: string, expected: string, options?: ErrorOptions) {
    super(`${property}: expected ${expected}.`, options)
    this.property = property
  }
}

/** The database refused the change because of one of its constraints. */
export class ConstraintBroken extends DataError {
  readonly code = 'constraint-broken'
  readonly constraint: string | undefined

  constructor(message: string, constraint: string | undefined, cause: unknown) {
    super(message, { cause })
    this.constraint = constraint
  }
}

/** A lock was not granted in time. */
export class LockTimeout extends DataError {
  readonly code = 'lock-timeout'
}

/** A statement took longer than it may. */
export class TimeLimit extends DataError {
  readonly code = 'time-limit'
}

/** Serialization failures or deadlocks, every attempt. */
export class RetriesExhausted extends DataError {
  readonly code = 'retries-exhausted'
}

/** The connection broke while the change was being committed: it is done, or it is not. Load the record to find out. */
export class OutcomeUnknown extends DataError {
  readonly code = 'outcome-unknown'
}
