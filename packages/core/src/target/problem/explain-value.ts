import { failedParameter, isOverflow, withoutValues } from '../../sessions/database-words.js'
import { LedgermanProblem } from '@ledgerman/contract'
import { isInFunction, type DatabaseError } from '../../sessions/database-error.js'
import type { ErrorContext } from './error-context.js'
import { mayHoldSecret } from './safe-message.js'

/**
 * Explains a value that PostgreSQL could not read or hold (SQLSTATE class 22). Which bind it was stands in the error's
 * context (`… parameter $2`); where the error came later, in a cast, the only property of that type is meant, if there is
 * one. The server's message may repeat the value, so it is left out for sensitive properties.
 */
export function explainValue(error: DatabaseError, context: ErrorContext): LedgermanProblem {
  const { mapping, slots = [] } = context
  if (error.code === '22012' && !isInFunction(error))
    return new LedgermanProblem(
      'value-invalid',
      `An expression divides by zero for one of the rows of ${mapping?.name ?? 'the table'}. Leave those out, or divide by nullif(…, 0), which gives null there.`,
      { where: 'expression', mapping: mapping?.name, sqlstate: error.code },
      { cause: error },
    )
  const counted = versionAtItsEnd(error, context)
  if (counted) return counted
  const tooLong = computedTooLong(error, context)
  if (tooLong) return tooLong
  const parameter = failedParameter(error)
  const slot = parameter === undefined ? undefined : slots[parameter - 1]
  const isSecret = slot ? slot.sensitive : mayHoldSecret(context)
  const says = isSecret ? withoutValues(error.message) : error.message
  const where = slot?.name ?? mapping?.name ?? 'value'
  return new LedgermanProblem(
    'value-invalid',
    `${where}: ${slot ? `expected ${slot.type}; ` : ''}${isInFunction(error) ? 'a function of the database fails' : 'PostgreSQL says'}: ${says}.`,
    { where, mapping: mapping?.name, properties: slot ? [slot.name] : [], expected: slot?.type, sqlstate: error.code },
    { cause: error },
  )
}

/** Whether a value should have named a table, a function or the like (its type is regclass or a sibling), and there is none. */
export function isNoName(error: DatabaseError): boolean {
  return error.code.startsWith('42') && failedParameter(error) !== undefined
}

/**
 * A text too long for its column: given ones are checked before, so it was computed. PostgreSQL names the type, and with it the properties that it may be;
 * what came up inside of a function, such as a trigger's, may be about any column.
 */
function computedTooLong(error: DatabaseError, { mapping }: ErrorContext): LedgermanProblem | undefined {
  if (error.code !== '22001' || error.where !== undefined || mapping === undefined) return undefined
  const length = /\((\d+)\)/.exec(error.message)?.[1]
  const held = mapping.properties.filter(({ column }) => String(column.type.length) === length)
  if (length === undefined || held.length === 0) return undefined
  const names = held.map(({ name }) => name)
  const most = `at most ${length} ${length === '1' ? 'character' : 'characters'}`
  return new LedgermanProblem(
    'value-invalid',
    `${names.join(' or ')}: a computed text is too long. Expected ${most}; left(…, ${length}) gives its beginning.`,
    {
      where: names[0],
      mapping: mapping.name,
      properties: names,
      expected: most,
      sqlstate: error.code,
    },
    { cause: error },
  )
}

/** A number out of range where none was bound: it is the version, which is counted up in the statement. */
function versionAtItsEnd(error: DatabaseError, { mapping, kind }: ErrorContext): LedgermanProblem | undefined {
  if (!isOverflow(error) || isInFunction(error) || mapping?.guard.by !== 'version') return undefined
  if (kind !== 'change' && kind !== 'replace') return undefined
  const { name, column } = mapping.guard.property
  return new LedgermanProblem(
    'refused-by-database',
    `The version of this ${mapping.name} cannot be counted up: ${name} is at the end of what ${column.type.sql} holds, or an expression goes beyond its range. Widen the column ${column.name}, or set the version back where nobody has the record loaded. Nothing was changed.`,
    { sqlstate: error.code, where: name, mapping: mapping.name, table: mapping.table.path },
    { cause: error },
  )
}
