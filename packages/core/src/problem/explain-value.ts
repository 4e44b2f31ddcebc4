import { LedgermanProblem } from '@ledgerman/contract'
import type { DatabaseError } from './database-error.js'
import type { ErrorContext } from './error-context.js'
import { mayHoldSecret, withoutValues } from './safe-message.js'

/**
 * Explains a value that PostgreSQL could not read or hold (SQLSTATE class 22). Which bind it was stands in the error's
 * context (`… parameter $2`); where the error came later, in a cast, the only property of that type is meant, if there is
 * one. The server's message may repeat the value, so it is left out for sensitive properties.
 */
export function explainValue(error: DatabaseError, context: ErrorContext): LedgermanProblem {
  const { mapping, slots = [] } = context
  if (error.code === '22012')
    return new LedgermanProblem(
      'value-invalid',
      `An expression divides by zero for one of the rows of ${mapping?.name ?? 'the table'}. Leave those out, or divide by nullif(…, 0), which gives null there.`,
      { where: 'expression', mapping: mapping?.name, sqlstate: error.code },
      { cause: error },
    )
  const position = /parameter \$(\d+)/.exec(error.where ?? '')?.[1]
  const slot = position === undefined ? undefined : slots[Number(position) - 1]
  const isSecret = slot ? slot.sensitive : mayHoldSecret(context)
  const says = isSecret ? withoutValues(error.message) : error.message
  const where = slot?.name ?? mapping?.name ?? 'value'
  return new LedgermanProblem(
    'value-invalid',
    `${where}: ${slot ? `expected ${slot.type}; ` : ''}PostgreSQL says: ${says}.`,
    { where, mapping: mapping?.name, properties: slot ? [slot.name] : [], expected: slot?.type, sqlstate: error.code },
    { cause: error },
  )
}
