import { isProblem, type LedgermanProblem } from '@ledgerman/contract'
import { isDatabaseError } from '../sessions/database-error.js'
import type { Statement } from '../statement/statement.js'

const statements = new WeakMap<Error, Statement>()

/** Remembers which statement an error came from. */
export function rememberStatement(error: unknown, statement: Statement): void {
  if (isDatabaseError(error)) statements.set(error, statement)
}

/** The statement as whoever asked knows it: a change of many has one step, and nobody wrote its number. */
export function ofRequest(statement: Statement): Statement {
  const own = (name: string) => name.replace(/^steps\.1\./, '')
  const { text, name, marks, short } = statement
  return {
    text,
    name,
    marks,
    short,
    slots: statement.slots.map((slot) => ({ ...slot, name: own(slot.name) })),
    expressions: statement.expressions.map((each) => ({ ...each, label: own(each.label) })),
  }
}

/** The statement that an error came from. */
export function statementOfError(error: unknown): Statement | undefined {
  return error instanceof Error ? statements.get(error) : undefined
}

/** Whether it was a row that the database, or a rule, refused: others of the same statement may be fine. */
export function isOfARow(error: unknown): boolean {
  if (isProblem(error, 'rule-broken')) return true
  return isDatabaseError(error) && /^(?:2[123]|44|P0|HV|0L|XX001)|^42501/.test(error.code)
}

/** What says nothing of the job itself: it may go well another time. */
const SAYS_NOTHING: ReadonlySet<string> = new Set([
  'target-unavailable',
  'too-many-requests',
  'outcome-unknown',
  'cancelled',
  'internal',
])

/** Whether what was asked may not stand, as opposed to what broke, or was called off, on the way. */
export function isRefusal(error: unknown): error is LedgermanProblem {
  return isProblem(error) && !SAYS_NOTHING.has(error.code)
}
