import { isProblem, LedgermanProblem, type ProblemFacts } from '@ledgerman/contract'
import { explainConstraint } from './explain-constraint.js'
import { isConnectionError } from '../../sessions/connection-error.js'
import { connectionBroke } from '../../sessions/connection-problem.js'
import type { ErrorContext } from './error-context.js'
import { isDatabaseError, type DatabaseError } from '../../sessions/database-error.js'
import { isTimeLimit } from '../../sessions/database-words.js'
import { TableRewritten } from '../../sessions/rewritten-tables.js'
import { explainExpression } from './explain-expression.js'
import { inFailingRow } from './failing-row.js'
import { explainValue, isNoName } from './explain-value.js'
import { missingGrant } from './missing-grant.js'
import { hintOf, safeMessage } from './safe-message.js'
import { withoutSaid } from './said-by-function.js'

/**
 * Turns whatever went wrong in the database into a problem that says what, where and what to do. Problems pass unchanged;
 * an error of our own making is given back as it is, for the service to log.
 */
export function translateError(error: unknown, context: ErrorContext): unknown {
  if (isProblem(error)) return error
  if (isConnectionError(error)) return connectionBroke(context.target, error)
  if (!isDatabaseError(error)) return error
  const told = explain(withoutSaid(error, context), context)
  return context.isOfMany && context.mapping ? inFailingRow(told, error, context.mapping) : told
}

function explain(error: DatabaseError, context: ErrorContext): LedgermanProblem {
  const inExpression = explainExpression(error, context)
  if (inExpression) return inExpression
  if (isNoName(error)) return explainValue(error, context)
  const told = explanations[error.code] ?? explanations[error.code.slice(0, 2)] ?? refusedByDatabase
  return told(error, context)
}

type Explain = (error: DatabaseError, context: ErrorContext) => LedgermanProblem

function problem(
  code: ConstructorParameters<typeof LedgermanProblem>[0],
  detail: string,
  facts: ProblemFacts,
  cause: unknown,
) {
  return new LedgermanProblem(code, detail, facts, { cause })
}

/** By SQLSTATE, or by its class of two characters. */
const explanations: Record<string, Explain> = {
  '23': explainConstraint,
  '22': explainValue,
  '55P03': (error, { lockWaitMs }) =>
    problem(
      'lock-timeout',
      `A lock was not granted within ${(lockWaitMs ?? 0) / 1000} s. Nothing was changed; try again.`,
      { lockWaitMs },
      error,
    ),
  '57014': (error, { timeLimitMs }) =>
    isTimeLimit(error)
      ? problem(
          'time-limit',
          `The statement ran longer than ${(timeLimitMs ?? 0) / 1000} s and was stopped. Nothing was changed.`,
          { timeLimitMs },
          error,
        )
      : problem('cancelled', 'The statement was cancelled in the database. Nothing was changed.', {}, error),
  '40': (error) =>
    problem(
      'retries-exhausted',
      `${error instanceof TableRewritten ? 'The transaction was ended' : 'PostgreSQL ended the transaction to keep others consistent'}: ${error.message}. Nothing was changed; try again.`,
      { attempts: 1, lastError: error.message, sqlstate: error.code },
      error,
    ),
  '42501': (error, context) => {
    const { target, mapping } = context
    return problem(
      error.routine === 'ExecWithCheckOptions' ? 'row-not-written' : 'target-denied',
      error.routine === 'ExecWithCheckOptions'
        ? `A row-level policy of ${mapping?.table.path ?? 'the table'} refuses the record as it would be afterwards.`
        : `The database role of ${target} may not do that: ${error.message}.${stampNeedsAll(mapping)} ${missingGrant(error, context)}`,
      { target },
      error,
    )
  },
  '25006': (error, { target }) =>
    problem('target-denied', `${target} is read-only: ${error.message}.`, { target }, error),
  '42P01': driftProblem,
  '42703': driftProblem,
  '53': (error, { target }) =>
    problem('target-unavailable', `${target} is out of resources: ${error.message}.`, { target }, error),
  P0001: (error, context) => {
    const words = safeMessage(error, context)
    return problem(
      'rule-broken',
      `The database refuses it: ${words}${hintOf(error, context)}`,
      { rule: words, table: context.mapping?.table.path, by: 'database' },
      error,
    )
  },
}

/**
 * What the database refuses with a state that nothing more is known of: a trigger's own, a view's check option, a feature that it
 * does not have for this kind of table. Its own words say it, with the state.
 */
function refusedByDatabase(error: DatabaseError, context: ErrorContext): LedgermanProblem {
  const words = safeMessage(error, context)
  // RETURNING is not for tables whose rules do something else in its place.
  const rules =
    error.code === '0A000' && context.mapping?.table.hasRules
      ? ` Rules rewrite what is done to ${context.mapping.table.path}, so what becomes of a record cannot be read: its records can be loaded, and not changed here.`
      : ''
  return problem(
    'refused-by-database',
    `The database refuses it: ${words}${hintOf(error, context)} (SQLSTATE ${error.code}).${rules} Nothing was changed.`,
    { sqlstate: error.code, message: words, table: context.mapping?.table.path },
    error,
  )
}

/** Of a table of which the role may read some columns only, PostgreSQL does not say that it is the row stamp that is too much. */
function stampNeedsAll(mapping: ErrorContext['mapping']): string {
  return mapping?.guard.by === 'rowStamp' && !mapping.table.isReadable
    ? ` The guard rowStamp of ${mapping.name} needs the privilege to read the whole table; version and values need only the columns that are mapped.`
    : ''
}

function driftProblem(error: DatabaseError, { mapping }: ErrorContext): LedgermanProblem {
  return problem(
    'definition-invalid',
    mapping
      ? `The mapping ${mapping.name} no longer fits the database: ${error.message}. Compare it with the table and publish it again.`
      : `The statement does not fit the database: ${error.message}.`,
    { definition: mapping?.name },
    error,
  )
}
