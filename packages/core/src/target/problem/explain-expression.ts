import { suggestName, type LedgermanProblem } from '@ledgerman/contract'
import { placeOf, problemIn, type StatementExpression } from '../../statement/statement.js'
import type { DatabaseError } from '../../sessions/database-error.js'
import { failedParameter } from '../../sessions/database-words.js'
import type { ErrorContext } from './error-context.js'
import { isNoName } from './explain-value.js'
import { safeMessage } from './safe-message.js'

/** How many labels of an enum are told. */
const MOST_LABELS = 20

/** What PostgreSQL finds wrong with the types of an expression before it runs it, or with a value it reaches while it does. */
const IN_EXPRESSIONS = /^(?:42883|42804|42725|42846|42P18|42803|42809|42601|54001|0A000|22\w{3})$/

/**
 * What is wrong with a raw statement itself: all of class 42 but a missing privilege. Where a mapping is at hand the names are
 * its own, and it has drifted.
 */
const IN_RAW_STATEMENTS = /^(?:42(?!501)\w{3}|3F000)$/

/**
 * Tells an error in the place of the expression it comes from: by the position the server gives, or by the literal it could
 * not read. Undefined where the error does not come from an expression.
 */
export function explainExpression(error: DatabaseError, context: ErrorContext): LedgermanProblem | undefined {
  const { statement, mapping } = context
  const parameter = failedParameter(error)
  const mayBeIn = IN_EXPRESSIONS.test(error.code) || isNoName(error) || (!mapping && IN_RAW_STATEMENTS.test(error.code))
  if (!statement || !mayBeIn) return undefined
  const slot = parameter === undefined ? undefined : statement.slots[parameter - 1]
  const told = (problem: LedgermanProblem) => problem.with({ mapping: mapping?.name })
  if (slot?.source.from === 'literal') {
    const expression = statement.expressions[slot.source.expression]
    const got = slot.sensitive ? '' : `, got '${slot.source.text}'`
    const type = mapping?.properties.find(({ column }) => column.type.sql === slot.type)?.column.type
    const expected = `Expected ${type ? describeLabels(type) : slot.type}${got}`
    return expression && told(problemIn(expression, slot.source.at, expected))
  }
  const field = /^unit "(\w+)" not (?:recognized|supported)/.exec(error.message)?.[1]
  if (field !== undefined) {
    const unknown = unknownField(field, statement.expressions)
    return unknown && told(unknown)
  }
  if (slot !== undefined || error.position === undefined) return undefined
  const place = placeOf(statement, Number(error.position))
  const shown = error.code.startsWith('22') ? { ...error, message: safeMessage(error, context) } : error
  return place && told(problemIn(place, place.at, sentence(shown), adviceOf(error)))
}

/** A type as those know it who write a value of it: of an enum they write a label. */
function describeLabels({ sql, labels }: { sql: string; labels: readonly string[] | null }): string {
  if (labels === null || labels.length > MOST_LABELS) return sql
  return `one of ${labels.map((label) => `'${label}'`).join(', ')}`
}

/** The fields of a time that `extract` and `date_trunc` know most often (PostgreSQL, "Date/Time Functions and Operators"). */
const FIELDS = 'second,minute,hour,day,week,month,quarter,year,dow,doy,epoch,isodow'.split(',')

/** The server says which field of a time it does not know, and not where; where an expression names it, that is the place. */
function unknownField(field: string, expressions: readonly StatementExpression[]): LedgermanProblem | undefined {
  for (const expression of expressions) {
    const found = new RegExp(`\\b(extract\\s*\\(\\s*|date_trunc\\s*\\(\\s*')${field}\\b`, 'i').exec(expression.source)
    if (found) {
      const at = found.index + (found[1]?.length ?? 0)
      return problemIn(expression, at, `A time has no field ${field}. ${suggestName(field, FIELDS)}`)
    }
  }
  return undefined
}

/** No such function, or several: the hint is to add casts, which expressions hardly ever need. */
const HINTS_AT_CASTS = new Set(['42883', '42725'])

/** The server's words, with what the user wrote rather than what it was turned into. */
function sentence({ message }: Pick<DatabaseError, 'message'>): string {
  const words = message
    .replace(/^argument of WHERE must be/, 'A condition is')
    .replace(/^operator does not exist: /, 'There is no such comparison or calculation: ')
    .replaceAll('pg_catalog.', '')
    .replace(/ (!?)~~(\*?) /, (_, not: string, any: string) => ` ${not && 'not '}${any && 'i'}like `)
  return `${words.charAt(0).toUpperCase()}${words.slice(1)}`
}

/** The server's hint, where it helps. */
function adviceOf({ code, hint }: Pick<DatabaseError, 'code' | 'hint'>): string | undefined {
  if (!hint || HINTS_AT_CASTS.has(code) || /HINT/.test(hint)) return undefined
  return hint.replace(/^Perhaps you meant to reference the (?:column|table alias) ("[^"]*")\.$/, 'Did you mean $1?')
}
