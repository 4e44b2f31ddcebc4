import { isDatabaseError, isSaidByFunction } from '../sessions/database-error.js'
import { withoutValues } from '../sessions/database-words.js'
import type { LedgermanProblem, Receipt, StepReceipt } from '@ledgerman/contract'
import { keptCondition } from '../plan/kept-condition.js'
import { isWrite, mayWrite, shownStatement, type Plan, type PlannedStep, type PlannedWrite } from '../plan/plan.js'
import type { BookedWrite } from './read-run-receipt.js'
import { introduceStatements, statementId, type KeptStatement } from './introduce-statement.js'
import { NOW_SQL } from '../statement/book-sql.js'
import { recordRefusal } from './record-refusal.js'
import type { Session } from '../sessions/session-pool.js'
import type { Target } from '../target/target.js'

/** A request that must take effect once, however often it is sent. */
export interface BookedRequest {
  key: string
  /** A digest of everything the request asks. */
  digest: string
}

/** Sees to it that the text of every statement of a plan stands in the book, before an entry refers to it. */
export function introducePlan(target: Target, plan: Plan): Promise<void> {
  return introduceStatements(target, plan.steps.map(toKept))
}

function toKept(step: PlannedStep): KeptStatement {
  const mapping = 'mapping' in step ? step.mapping : null
  // Without a key an image holds all of the row.
  const touched = isWrite(step) ? (step.mapping.key.length === 0 ? step.mapping.properties : step.touched) : []
  return { kind: step.kind, mapping, statement: shownStatement(step), set: isWrite(step) ? step.set : [], touched }
}

/** Writes a run's entry and its steps, in the run's own transaction. Its images were written by the steps themselves. */
export async function bookRun(
  session: Session,
  plan: Plan,
  receipt: Receipt,
  request: BookedRequest | undefined,
): Promise<void> {
  // A second entry of that id would hide that the run was done before: it has to fail.
  const { id, actor, note } = receipt
  const totals = [totalOf(plan, receipt, 'matched'), totalOf(plan, receipt, 'changed')].map(String)
  const texts = [bookedRun(plan, receipt), bookedSteps(plan, receipt)].map((each) => JSON.stringify(each))
  const values = [id, actor, note, ...totals, ...texts, request?.key ?? null, request?.digest ?? null]
  await session.query(BOOK_SQL, values, 'lm_book_run')
}

/** Writes a refused run to the book, after its roll-back. @returns whether it stands there now. */
export function recordRefusedRun(
  target: Target,
  plan: Plan,
  receipt: Receipt,
  problem: LedgermanProblem,
): Promise<boolean> {
  const { id, actor, note } = receipt
  return recordRefusal(target, {
    id,
    actor,
    note,
    problem,
    detail: bookedDetail(plan, problem),
    matched: totalOf(plan, receipt, 'matched'),
    run: bookedRun(plan, receipt),
    steps: bookedSteps(plan, receipt),
  })
}

const BOOK_SQL = `
insert into ledgerman.entry (id, at, actor, outcome, note, matched, changed, run, steps, request_key, request_digest)
values ($1::uuid, ${NOW_SQL}, $2, 'committed', $3, $4::integer, $5::integer, $6::jsonb, $7::json, $8, $9)`

/** What an entry says of a run as a whole. */
export type BookedRun = Pick<
  Receipt,
  | 'transaction'
  | 'revision'
  | 'isolation'
  | 'attempts'
  | 'durationMs'
  | 'startedAt'
  | 'reversible'
  | 'definitions'
  | 'rounded'
>

function bookedRun(plan: Plan, receipt: Receipt): BookedRun & { writes?: BookedWrite[] } {
  const writes = plan.name === null ? { writes: plan.steps.filter(isWrite).map(toBookedWrite) } : {}
  const { transaction, revision, isolation, attempts, durationMs, startedAt, reversible, definitions, rounded } =
    receipt
  return {
    transaction,
    revision,
    isolation,
    attempts,
    durationMs,
    startedAt,
    reversible,
    definitions,
    ...(rounded ? { rounded } : {}),
    ...writes,
  }
}

/** How much of a condition the book keeps beside a run; the whole statement stands with its steps. */
const LONGEST_CONDITION = 500

function toBookedWrite(step: PlannedWrite): BookedWrite {
  const { shape, mapping, kind, step: statement } = step
  const where = shape.kind !== 'add' && 'where' in shape.finder ? (shape.finder.where?.source ?? 'true') : null
  const shown = where === null ? null : keptCondition(where, statement).slice(0, LONGEST_CONDITION)
  return { kind, mapping: mapping.name, where: shown }
}

/** What an entry says of one of its steps. Numbers stand there as JSON numbers but for the statement's, which is too large for some readers. */
function bookedStep(step: PlannedStep, told: StepReceipt) {
  return {
    no: told.no,
    name: told.as,
    statement: stepStatementId(step),
    binds: told.binds.map(({ value }) => value),
    expected: told.expected,
    matched: told.matched,
    changed: told.changed,
    skipped: told.skipped,
    duration_ms: told.durationMs,
  }
}

function bookedSteps(plan: Plan, { steps }: Receipt) {
  return steps.map((told) => bookedStep(plan.steps[told.no - 1] as PlannedStep, told))
}

/** Over all steps that may write. */
function totalOf(plan: Plan, { steps }: Receipt, of: 'matched' | 'changed'): number {
  const writing = steps.filter(({ no }) => mayWrite(plan.steps[no - 1] as PlannedStep))
  return writing.reduce((sum, step) => sum + (step[of] ?? 0), 0)
}

/** The words of a refusal as the book keeps them: an expression in them, or what a raw statement read, may be what must not be shown. */
function bookedDetail({ sensitiveParams, steps }: Plan, { detail, cause }: LedgermanProblem): string {
  const isSensitive =
    sensitiveParams.size > 0 ||
    steps.some((step) => shownStatement(step).slots.some(({ sensitive }) => sensitive)) ||
    (isDatabaseError(cause) && steps.some(({ kind }) => kind === 'sql'))
  if (!isSensitive) return detail
  return withoutValues(
    isDatabaseError(cause) && isSaidByFunction(cause) ? detail.replaceAll(cause.message, '…') : detail,
  )
}

/** A step's statement's number in the book. */
export function stepStatementId(step: PlannedStep): string {
  return statementId(toKept(step))
}
