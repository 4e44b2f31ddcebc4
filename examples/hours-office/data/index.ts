// Written by Ledgerman: all that the other files have.
export * from './programme.js'
export * from './move-hours.js'
export {
  ConstraintBroken,
  CountMismatch,
  DataError,
  LockTimeout,
  OutcomeUnknown,
  RecordAmbiguous,
  RecordChanged,
  RecordMissing,
  RetriesExhausted,
  RowNotWritten,
  RuleBroken,
  TimeLimit,
  ValueInvalid,
  POOL_SETTINGS,
  prepareStatements,
} from './support.js'
export type { Db, Loaded, Written } from './support.js'
