/** What the server says of an error (PostgreSQL's "Error and Notice Message Fields"). */
export interface DatabaseError extends Error {
  code: string
  detail?: string
  /** Characters into the statement, from 1. */
  position?: string
  hint?: string
  schema?: string
  table?: string
  column?: string
  dataType?: string
  constraint?: string
  where?: string
  /** The server's function that refused: unlike the message, the same in every language. */
  routine?: string
}

/** Whether the server itself refused, with a SQLSTATE. */
export function isDatabaseError(error: unknown): error is DatabaseError {
  return error instanceof Error && 'severity' in error && typeof (error as { code?: unknown }).code === 'string'
}

/** Whether what a session has prepared no longer fits the table, which was altered since; prepared afresh it would run. */
export function isStalePlan(error: unknown): boolean {
  return isDatabaseError(error) && error.code === '0A000' && error.routine === 'RevalidateCachedQuery'
}

/** Whether a statement does not fit the tables and types as they are: before one was altered it may have fitted. */
export function mayBeOutdated(error: unknown): boolean {
  return isDatabaseError(error) && /^(?:42(?!501)|0A)/.test(error.code)
}

// SQLSTATEs ("PostgreSQL Error Codes").

/** Whether the server, the database or the role has as many sessions as it may have. */
export function hasNoSessionLeft(error: unknown): boolean {
  return isDatabaseError(error) && error.code === '53300'
}

/** Whether what was sent is not taken: of a session that begins, one of its start-up parameters. */
export function isProtocolViolation(error: unknown): boolean {
  return isDatabaseError(error) && error.code === '08P01'
}

/** Whether a lock was not granted in time. */
export function isLockTimeout(error: unknown): boolean {
  return isDatabaseError(error) && error.code === '55P03'
}

/** Whether a statement was cancelled: by its time limit, or by somebody. */
export function isCancelled(error: unknown): boolean {
  return isDatabaseError(error) && error.code === '57014'
}

/** Whether PostgreSQL ended a transaction to keep others consistent: tried again it may succeed. */
export function isSerializationFailure(error: unknown): boolean {
  return isDatabaseError(error) && (error.code === '40001' || error.code === '40P01')
}

/** Whether the words are those of somebody's function: in them a value stands anywhere, in any form. */
export function isSaidByFunction({ routine = '' }: DatabaseError): boolean {
  return routine === 'exec_stmt_raise' || /^(?:PLy_|plperl|pltcl|plv8)/.test(routine)
}

/** Whether it came up inside of a function in a procedural language, such as a trigger's. */
export function isInFunction({ where = '' }: DatabaseError): boolean {
  return /\bPL\/\w/.test(where)
}
