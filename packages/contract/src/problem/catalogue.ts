/**
 * Every problem Ledgerman answers with: its HTTP status, the exit code of the command line, and a title that does not
 * change from one occurrence to the next (RFC 9457, section 3.1.4). The docs page `docs/refusals.md` has one section a code.
 */
export const problemCatalogue = {
  /** A body, query, header or path is not as the interface describes it. */
  'request-invalid': { status: 400, exit: 2, title: 'The request is not valid' },
  /** A property's value cannot be held by its column. */
  'value-invalid': { status: 400, exit: 2, title: 'A value is not valid' },
  /** An expression cannot be read, or does not fit its mapping. */
  'expression-invalid': { status: 400, exit: 2, title: 'The expression is not valid' },
  /** A definition cannot be read, or does not fit the live catalogue. */
  'definition-invalid': { status: 400, exit: 2, title: 'The definition is not valid' },
  /** A change of many records that neither states their number nor was rehearsed. */
  'count-required': { status: 400, exit: 2, title: 'The number of rows has to be stated, or rehearsed' },
  /** A file of corrections that cannot be read, or does not fit its mapping. */
  'file-invalid': { status: 400, exit: 2, title: 'The file is not valid' },
  /** No token, or one that is not known. */
  unauthenticated: { status: 401, exit: 8, title: 'A valid token is needed' },
  /** The token's role does not reach. */
  forbidden: { status: 403, exit: 8, title: 'This token may not do that' },
  /** The token is not for this target, or the database refuses the target's role. */
  'target-denied': { status: 403, exit: 8, title: 'The target does not allow that' },
  /** A keyed step, or `expect=one`, found no row. */
  'no-such-record': { status: 404, exit: 3, title: 'There is no such record' },
  /** A target, mapping, entry, table or address that does not exist. */
  'not-found': { status: 404, exit: 3, title: 'Not found' },
  /** An address that is there, called with a method that it does not take. */
  'method-not-allowed': { status: 405, exit: 2, title: 'The address takes other methods' },
  /** One record was meant and several fit. */
  'record-ambiguous': { status: 409, exit: 4, title: 'Several records fit' },
  /** A step matched another number of rows than it expected. */
  'count-mismatch': { status: 409, exit: 4, title: 'The number of rows is not the expected one' },
  /** The database refused the change because of one of its constraints. */
  'constraint-broken': { status: 409, exit: 6, title: 'A constraint of the database refuses the change' },
  /** The database refused, in a way that nothing more is known of than its own words. */
  'refused-by-database': { status: 409, exit: 6, title: 'The database refuses it' },
  /** A row was matched and should have been written, and was not. */
  'row-not-written': { status: 409, exit: 6, title: 'A matched row was not written' },
  /** The table has no unique, not-null key. */
  'no-key': { status: 409, exit: 1, title: 'The table has no key to change records by' },
  /** The target has no book yet. */
  'book-not-prepared': { status: 409, exit: 1, title: 'The book is not prepared in this target' },
  /** Rows are not as the entry that is to be put back left them. */
  'reversal-conflict': { status: 409, exit: 5, title: 'Rows were changed since' },
  /** An entry that cannot be put back. */
  'not-reversible': { status: 409, exit: 1, title: 'The entry cannot be reversed' },
  /** A mapping that other definitions use cannot be withdrawn alone. */
  'definition-in-use': { status: 409, exit: 1, title: 'Other definitions use it' },
  /** What the book holds is not what was sealed. */
  'book-altered': { status: 409, exit: 1, title: 'The book was altered' },
  /** A job that is over, and so can be neither cancelled nor resumed; or one that is not, and so cannot be resumed. */
  'job-ended': { status: 409, exit: 1, title: 'The job cannot do that any more' },
  /** An Idempotency-Key that came with another request. */
  'idempotency-key-reused': { status: 409, exit: 1, title: 'The idempotency key was used for another request' },
  /** An Idempotency-Key whose first request is still running. */
  'idempotency-key-in-use': { status: 409, exit: 1, title: 'The idempotency key is in use' },
  /** The guard, or a value that was tested, differs: the record is not as it was loaded. */
  'record-changed': { status: 412, exit: 5, title: 'The record is not as it was loaded' },
  /** What was rehearsed is no longer what would be committed. */
  'rehearsal-stale': { status: 412, exit: 5, title: 'The rehearsal no longer holds' },
  'too-large': { status: 413, exit: 2, title: 'The request is too large' },
  'media-type': { status: 415, exit: 2, title: 'The media type is not supported here' },
  'too-many-requests': { status: 429, exit: 2, title: 'Too many requests' },
  /** A rule of the mapping or transaction is not fulfilled. */
  'rule-broken': { status: 422, exit: 6, title: 'A rule is broken' },
  /** A lock was not granted within the lock wait. */
  'lock-timeout': { status: 423, exit: 7, title: 'A lock was not granted in time' },
  /** A change of a guarded record without its guard. */
  'guard-required': { status: 428, exit: 2, title: 'The guard of the loaded record is needed' },
  /** Serialization failures or deadlocks, every attempt. */
  'retries-exhausted': { status: 409, exit: 7, title: 'Every attempt failed' },
  /** The caller, or somebody with the right to, cancelled it. */
  cancelled: { status: 409, exit: 1, title: 'The run was cancelled' },
  /** The time limit ran out. */
  'time-limit': { status: 504, exit: 7, title: 'The time limit ran out' },
  /** The target's database cannot be reached. */
  'target-unavailable': { status: 503, exit: 9, title: 'The target cannot be reached' },
  /** The scratch database that drills run in cannot be built. */
  'scratch-unavailable': { status: 503, exit: 9, title: 'The scratch database cannot be used' },
  /** The connection broke while the change was being committed, and the database cannot be asked. */
  'outcome-unknown': { status: 503, exit: 9, title: 'It is not known whether the change was committed' },
  /** A fault of Ledgerman's own. */
  internal: { status: 500, exit: 1, title: 'Something went wrong in Ledgerman' },
} as const satisfies Record<string, { status: number; exit: number; title: string }>

export type ProblemCode = keyof typeof problemCatalogue

export const PROBLEM_CODES = Object.keys(problemCatalogue) as [ProblemCode, ...ProblemCode[]]
