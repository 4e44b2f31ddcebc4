import { v7 as uuidv7 } from 'uuid'
import {
  LedgermanProblem,
  isProblem,
  type ChangedRecord,
  type Receipt,
  type RecordValues,
  type RunMode,
} from '@ledgerman/contract'
import { recordRefusal } from '../book/record-refusal.js'
import { settleOutcome } from '../book/settle-outcome.js'
import { REFUSED_BY_BOOK } from '../book/book-schema.js'
import { introduceStatement, statementId } from '../book/introduce-statement.js'
import type { Mapping, Property } from '../mapping/mapping.js'
import { isConnectionError } from '../problem/connection-error.js'
import { isDatabaseError } from '../problem/database-error.js'
import { buildChange, type ChangeStatement } from '../statement/build-change.js'
import { bindValues } from '../statement/statement.js'
import type { Rows } from '../target/queryable.js'
import type { Target } from '../target/target.js'
import { digestKeyPads, digestText } from '../values/digest.js'
import { bookNotPrepared, guardRequired, recordChanged, rowNotWritten } from './change-problems.js'
import { parseChangeSet, type ChangeSet } from './change-input.js'
import { guardBind, toGuard, type GuardCondition } from './guard-value.js'
import { inRehearsal, inTransaction } from './in-transaction.js'
import { ambiguousRecord, noSuchRecord } from './load-record.js'
import { assertKeyed, type KeyTexts } from './record-key.js'
import { recordFromTexts } from './record-row.js'
import { reversibilityOf } from './reversibility.js'
import {
  showableBinds,
  toBindReceipts,
  toReceipt,
  toRowReceipt,
  toStepReceipt,
  type RunHeader,
  type StepOutcome,
} from './receipt.js'

export interface ChangeRequest {
  key: KeyTexts
  /** The properties to set, in JSON form. */
  values: RecordValues
  /** The state of the record the caller knows; it may only be left out where the mapping has no guard. */
  guard: GuardCondition | undefined
  mode: RunMode
  actor: string
  note?: string
}

/**
 * Changes the named properties of one record, and proves it.
 *
 * The record is written only where its guard holds and its image would differ. In mode `commit` the entry is written by
 * the same statement; in mode `rehearse` everything is rolled back.
 *
 * @throws LedgermanProblem with the receipt as far as the run got: no-such-record, record-changed, constraint-broken,
 *   row-not-written, lock-timeout, time-limit, target-unavailable, outcome-unknown; without one, since nothing was sent:
 *   guard-required, request-invalid, value-invalid, no-key, book-not-prepared.
 */
export async function changeRecord(target: Target, mapping: Mapping, request: ChangeRequest): Promise<ChangedRecord> {
  assertKeyed(mapping)
  if (request.guard === undefined && mapping.guard.by !== 'none') throw guardRequired(mapping)
  const set = parseChangeSet(mapping, request.values)
  if (request.mode === 'commit' && !(await target.isBookPrepared())) throw bookNotPrepared(target)
  return runChange(target, mapping, request, set)
}

async function runChange(
  target: Target,
  mapping: Mapping,
  request: ChangeRequest,
  set: ChangeSet,
): Promise<ChangedRecord> {
  const started = performance.now()
  const header = toHeader(target, mapping, request)
  const statement = changeStatement(mapping, set.properties, {
    guarded: request.guard !== undefined && request.guard !== 'any',
    booked: request.mode === 'commit',
  })
  const shown = showableBinds(statement.step.slots, bindValues(statement.step, valueOf), target.digestKey)
  const receiptFor = (outcome: Receipt['outcome'], step: StepOutcome): Receipt =>
    toReceipt(
      header,
      outcome,
      performance.now() - started,
      [toStepReceipt('change', mapping.name, statement.step.text, toBindReceipts(statement.step.slots, shown), step)],
      outcome === 'refused' ? null : reversibilityOf(mapping, statement.set),
    )

  try {
    if (statement.booked) await introduceStatement(target, mapping, statement.step, 'change')
    const { rows } = await runStatement(target, mapping, statement, bindValues(statement.run, valueOf), request.mode)
    const judged = judge(target, mapping, statement, request, rows)
    const durationMs = performance.now() - started
    const outcome = request.mode === 'commit' ? 'committed' : 'rehearsed'
    return {
      record: judged.record,
      guard: judged.guard,
      receipt: receiptFor(outcome, {
        matched: 1,
        changed: judged.row ? 1 : 0,
        durationMs,
        rows: judged.row ? [judged.row] : [],
      }),
    }
  } catch (error) {
    if (request.mode === 'commit' && isConnectionError(error)) {
      const committed = await settleOutcome(target, mapping, request.key, header, error)
      return { record: committed.record, guard: committed.guard, receipt: receiptFor('committed', committed) }
    }
    throw await refuse(error)
  }

  function valueOf(source: Parameters<Parameters<typeof bindValues>[1]>[0]): string | null {
    switch (source.from) {
      case 'key':
        return request.key.get(source.property) ?? null
      case 'set':
        return set.texts.get(source.property) ?? null
      case 'guard':
        return guardBind(mapping, request.guard ?? 'any')
      case 'actor':
        return request.actor
      case 'digest key':
        return digestKeyPads(target.digestKey)
      case 'limit':
        return null
      case 'entry':
        return {
          id: header.id,
          statement: statementId(mapping, statement.step, 'change'),
          binds: toTextArray(shown),
          note: header.note,
        }[source.field]
    }
  }

  /** Makes the problem of a run that was rolled back, with its receipt, and writes the refusal to the book. */
  async function refuse(error: unknown): Promise<unknown> {
    const problem = target.explain(isRefusedByBook(error) ? rowNotWritten(mapping) : error, {
      mapping,
      slots: statement.run.slots,
    })
    if (!isProblem(problem)) return problem
    const durationMs = performance.now() - started
    const matched =
      typeof problem.facts['matched'] === 'number'
        ? problem.facts['matched']
        : problem.code === 'no-such-record'
          ? 0
          : null
    const refused = problem.with({ receipt: receiptFor('refused', { matched, changed: 0, durationMs, rows: [] }) })
    if (request.mode === 'commit') {
      await recordRefusal(target, {
        header,
        statement: statementId(mapping, statement.step, 'change'),
        binds: toTextArray(shown),
        key: keyTexts(mapping, request),
        matched,
        problem,
      })
    }
    return refused
  }
}

/** What the one row of the statement says; throws the problem where the change was refused. */
function judge(
  target: Target,
  mapping: Mapping,
  statement: ChangeStatement,
  request: ChangeRequest,
  rows: Rows['rows'],
) {
  const [row] = rows
  if (!row) throw noSuchRecord(mapping, request.key)
  if (rows.length > 1) throw ambiguousRecord(mapping, request.key)
  const { properties } = mapping
  const at = properties.length
  const [guardHolds, differs, written] = row.slice(at, at + 3).map((flag) => flag === 't')
  const before = row.slice(0, at)
  if (!guardHolds) throw recordChanged(mapping, request, before, row[at + 3] ?? null)
  if (differs && !written) throw rowNotWritten(mapping)
  const touchedAfter = row.slice(at + 7)
  const after = written ? properties.map((property, index) => afterOf(property, before[index] ?? null)) : before
  return {
    record: recordFromTexts(mapping, properties, after),
    // After a rehearsal the record is as it was, and so is its guard.
    guard: toGuard(mapping, (written && request.mode === 'commit' ? row[at + 4] : row[at + 3]) ?? null),
    row: written
      ? toRowReceipt(
          mapping,
          {
            key: mapping.key.map((property) => before[properties.indexOf(property)] ?? null),
            touched: statement.touched,
            before: statement.touched.map((property) => shown(property, before[properties.indexOf(property)] ?? null)),
            after: statement.touched.map((property, index) => shown(property, touchedAfter[index] ?? null)),
          },
          (property) => statement.set.includes(property),
        )
      : null,
  }

  function afterOf(property: Property, unchanged: string | null): string | null {
    const index = statement.touched.indexOf(property)
    return index < 0 ? unchanged : (touchedAfter[index] ?? null)
  }

  function shown(property: Property, text: string | null): string | null {
    return property.sensitive && text !== null ? digestText(target.digestKey, text) : text
  }
}

/** Runs the statement by itself where it judges and books by itself, and between BEGIN and the end otherwise. */
async function runStatement(
  target: Target,
  mapping: Mapping,
  statement: ChangeStatement,
  values: (string | null)[],
  mode: RunMode,
): Promise<Rows> {
  const { text, name } = statement.run
  const isSelfChecking = mode === 'commit' && mapping.table.kind !== 'view' && !mapping.table.rowSecurity
  const once = (preparedAs: string | undefined) => {
    if (isSelfChecking) return target.query(text, values, preparedAs)
    return (mode === 'commit' ? inTransaction : inRehearsal)(target, async (session) => {
      await session.query(`select set_config('ledgerman.actor', $1, true)`, [
        values[statement.run.slots.findIndex(({ source }) => source.from === 'actor')] ?? null,
      ])
      const rows = await session.query(text, values, preparedAs)
      // Where the key is none after all (a view), several rows would be changed: leave by the way that rolls back.
      if (rows.rows.length > 1)
        throw new LedgermanProblem('record-ambiguous', `Several rows of ${mapping.table.path} have this key.`, {
          mapping: mapping.name,
          expected: 'one',
          matched: rows.rows.length,
        })
      return rows
    })
  }
  try {
    return await once(name)
  } catch (error) {
    // The table was altered since the session prepared the statement: it is prepared afresh, once.
    if (isDatabaseError(error) && error.code === '0A000' && /cached plan/.test(error.message)) return once(undefined)
    throw error
  }
}

const statements = new WeakMap<Mapping, Map<string, ChangeStatement>>()

/** Builds the statement, or finds the one built for the same question. */
function changeStatement(
  mapping: Mapping,
  set: Property[],
  options: { guarded: boolean; booked: boolean },
): ChangeStatement {
  let built = statements.get(mapping)
  if (!built) statements.set(mapping, (built = new Map()))
  const question = `${options.guarded} ${options.booked} ${set.map((property) => property.name).join(' ')}`
  let statement = built.get(question)
  if (!statement) built.set(question, (statement = buildChange(mapping, set, options)))
  return statement
}

function toHeader(target: Target, mapping: Mapping, request: ChangeRequest): RunHeader {
  return {
    id: uuidv7(),
    target: target.name,
    mode: request.mode,
    revision: mapping.revision,
    actor: request.actor,
    note: request.note ?? null,
    startedAt: new Date().toISOString(),
  }
}

function keyTexts(mapping: Mapping, { key }: ChangeRequest): string {
  return toTextArray(mapping.key.map((property) => key.get(property.name) ?? null))
}

/** An array of texts in PostgreSQL's text form. */
function toTextArray(texts: readonly (string | null)[]): string {
  return `{${texts.map((text) => (text === null ? 'NULL' : `"${text.replace(/["\\]/g, '\\$&')}"`)).join(',')}}`
}

/** Whether the statement raised by itself, because a matched row was not written. */
function isRefusedByBook(error: unknown): boolean {
  return isDatabaseError(error) && error.code === REFUSED_BY_BOOK
}
