import { isSaidByFunction, type DatabaseError } from '../../sessions/database-error.js'
import { STAGED } from '../../sessions/database-words.js'
import type { ErrorContext } from './error-context.js'
import { mayHoldSecret } from './safe-message.js'

/**
 * The same error, where a function said it and a sensitive value may stand in its words: with an ellipsis for each value, where the triggers
 * of the table are known to say this; else with none of its words.
 */
export function withoutSaid(error: DatabaseError, context: ErrorContext): DatabaseError {
  if (!isSaidByFunction(error) || !mayHoldSecret(context)) return error
  const known = [STAGED, ...(context.mapping?.table.refusals ?? [])].sort((one, other) => other.length - one.length)
  const said = known.find((refusal) => isSaid(error.message, refusal))
  const message = said === undefined ? LEFT_OUT : partsOf(said).join('…')
  return Object.create(error, { message: { value: message, enumerable: true } }) as DatabaseError
}

const LEFT_OUT = 'what it says is left out, since a sensitive value may stand in it'

/** The text between the values: `%` stands for one, `%%` for itself. */
function partsOf(refusal: string): string[] {
  // No text in PostgreSQL holds U+0000.
  return refusal
    .replaceAll('%%', '\0')
    .split('%')
    .map((part) => part.replaceAll('\0', '%'))
}

/** Whether a message is a refusal with values in it: each part comes behind the one before, the first begins it and the last ends it. */
function isSaid(message: string, refusal: string): boolean {
  const [first = '', ...others] = partsOf(refusal)
  const last = others.pop()
  if (last === undefined) return message === first
  if (!message.startsWith(first) || !message.endsWith(last)) return false
  let from = first.length
  for (const part of others) {
    const at = message.indexOf(part, from)
    if (at < 0) return false
    from = at + part.length
  }
  return from + last.length <= message.length
}
