import { withoutValues } from '../../sessions/database-words.js'
import type { DatabaseError } from '../../sessions/database-error.js'
import type { ErrorContext } from './error-context.js'

/**
 * What PostgreSQL says, without the values it repeats: where anything sensitive is part of the statement or of its table, whatever
 * stands in quotes or behind a colon may be one, so it is taken out. The rule goes by where a value can stand in a message, since nobody
 * can list all messages.
 */
export function safeMessage({ message }: Pick<DatabaseError, 'message'>, context: ErrorContext): string {
  return mayHoldSecret(context) ? withoutValues(message) : message
}

/** Whether a value that must not be shown takes part. */
export function mayHoldSecret({ slots = [], statement, mapping }: ErrorContext): boolean {
  return (
    slots.some(({ sensitive }) => sensitive) ||
    (statement?.slots.some(({ sensitive }) => sensitive) ?? false) ||
    (mapping?.properties.some(({ sensitive }) => sensitive) ?? false)
  )
}

/** What a function that raises an error says to do; nothing where a value could stand in it that must not be shown. */
export function hintOf({ hint, routine }: DatabaseError, context: ErrorContext): string {
  return hint === undefined || routine !== 'exec_stmt_raise' || mayHoldSecret(context) ? '' : ` (hint: ${hint})`
}
