import { setTimeout as delay } from 'node:timers/promises'
import {
  isProblem,
  LedgermanProblem,
  type LockHolder,
  type Receipt,
  type RecordValues,
  type RunMode,
} from '@ledgerman/contract'
import { newEntryId } from '../book/entry-id.js'
import { REFUSED_BY_BOOK } from '../book/book-schema.js'
import { introduceStatement, statementId } from '../book/introduce-statement.js'
import { findRequest } from '../book/find-replay.js'
import type { BookedRequest } from '../book/book-run.js'
import { recordRefusal } from '../book/record-refusal.js'
import { settle } from '../book/settle.js'
import { isHidden, mayBeWrittenAgain, readAgain } from './read-again.js'
import { settledRecord } from './settled-record.js'
import type { Mapping } from '../mapping/mapping.js'
import { isConnectionError } from '../sessions/connection-error.js'
import {
  isCancelled,
  isDatabaseError,
  isLockTimeout,
  isSerializationFailure,
  isStalePlan,
} from '../sessions/database-error.js'
import { FLAGS, type KeyedStatement } from '../statement/keyed-statement.js'
import { bindValues, type SlotSource } from '../statement/statement.js'
import type { Queryable, Rows } from '../sessions/queryable.js'
import type { Target } from '../target/target.js'
import { tellEnd } from '../sessions/activity.js'
import { NoTurn, type Turn } from '../sharing/turn-queue.js'
import { digestKeyPads } from '../values/digest.js'
import { toTextArray } from '../values/text-array.js'
import type { WriteSet } from './change-input.js'
import { recordChanged, ruleBroken, rowNotWritten } from './change-problems.js'
import { explainConflict, explainRemoved } from './explain-conflict.js'
import { guardBind, toGuard, type GuardCondition } from '../mapping/guard-value.js'
import { inRehearsal, inTransaction } from '../target/in-transaction.js'
import { readKeyedRow } from './keyed-row.js'
import { ambiguousRecord, noSuchRecord } from './load-record.js'
import {
  showable,
  showableBinds,
  toBindReceipts,
  toReceipt,
  toRowReceipt,
  toStepReceipt,
  type RunHeader,
  type StepOutcome,
} from '../receipt/receipt.js'
import { lockTimeout } from '../waits/lock-timeout.js'
import { LockWatch } from '../waits/lock-watch.js'
import type { KeyTexts } from '../mapping/mapping.js'
import { tellRecord, type ToldRecord } from '../receipt/record-row.js'
import { reversibilityOf } from '../receipt/reversibility.js'

/** Who runs a step, and whether for good. */
export interface RunOptions {
  mode: RunMode
  actor: string
  note?: string
  /** A request that must take effect once: its key, and a digest of all it asks. */
  request?: BookedRequest | undefined
  /** Told while the step waits for a lock. */
  onWait?: (holders: LockHolder[]) => void
}

/** A step on one record: the built statement, and all that its slots are filled with. */
export interface KeyedStep {
  statement: KeyedStatement
  key: KeyTexts
  set: WriteSet
  expected: WriteSet
  guard: GuardCondition
  /** What the caller wants to set and what they loaded, as they said it, for showing a conflict. */
  yours: RecordValues
  loaded: RecordValues
}

export interface KeyedResult {
  /** The record as it is now, or would be; as it was, where it was removed. */
  record: RecordValues
  guard: string | null
  receipt: Receipt
}

/**
 * Runs one keyed step, and proves what it did.
 *
 * In mode `commit` the statement judges and books by itself, in one round trip where the table allows it; in mode `rehearse`
 * everything is rolled back.
 *
 * @throws LedgermanProblem with the receipt as far as the run got.
 */
export function runKeyedStep(
  target: Target,
  mapping: Mapping,
  step: KeyedStep,
  options: RunOptions,
): Promise<KeyedResult> {
  return tellEnd(target.activity, 'change', options.mode, runToItsEnd(target, mapping, step, options))
}

async function runToItsEnd(
  target: Target,
  mapping: Mapping,
  step: KeyedStep,
  options: RunOptions,
): Promise<KeyedResult> {
  const started = performance.now()
  const header = toHeader(target, mapping, options)
  const { statement } = step
  const { kind } = statement
  const isCommit = options.mode === 'commit'
  let watch: LockWatch | undefined
  let lineHolders: readonly LockHolder[] | undefined
  const shown = showableBinds(statement.step.slots, bindValues(statement.step, valueOf), target.digestKey)
  const receiptFor = (outcome: Receipt['outcome'], of: StepOutcome): Receipt => {
    const stepReceipt = toStepReceipt(
      kind,
      mapping.name,
      statement.step.text,
      toBindReceipts(statement.step.slots, shown),
      of,
    )
    return toReceipt(
      header,
      outcome,
      performance.now() - started,
      [stepReceipt],
      outcome === 'refused' ? null : reversibilityOf(mapping, kind, statement.set),
    )
  }

  try {
    if (isCommit) await introduceStatement(target, mapping, statement)
    const rows = await runStatement(target, mapping, step, valueOf, { ...options, id: header.id }, startWatch)
    const { record, lost, guard, row } = judge(target, mapping, step, rows, isCommit)
    const durationMs = performance.now() - started
    const outcome = { matched: 1, changed: row ? 1 : 0, durationMs, rows: row ? [row] : [] }
    return { record, guard, receipt: withLost(receiptFor(isCommit ? 'committed' : 'rehearsed', outcome), lost) }
  } catch (error) {
    if (!isCommit || !isConnectionError(error)) throw await refuse(error)
    await settle(target, header, error).catch(async (problem: unknown) => {
      throw isProblem(problem) ? problem.with({ receipt: refusedReceipt(null) }) : problem
    })
    const { record, guard, lost, outcome } = await settledRecord(target, mapping, step.key, header.id)
    return { record, guard, receipt: withLost(receiptFor('committed', outcome), lost) }
  } finally {
    watch?.end()
  }

  /** Somebody looks who holds the lock, if the statement comes to wait for one. */
  function startWatch(pid: number, turn?: Turn): LockWatch {
    watch?.end()
    // What was waited for in line counts.
    const leftMs = Math.max(1, target.limits.lockWaitMs - (turn?.waitedMs ?? 0))
    watch = new LockWatch(target, pid, leftMs, (holders) => {
      turn?.tellHolders(holders)
      options.onWait?.(holders)
    })
    return watch
  }

  function valueOf(source: SlotSource): string | null {
    switch (source.from) {
      case 'key':
        return step.key.get(source.property) ?? null
      case 'set':
        return step.set.texts.get(source.property) ?? null
      case 'expected':
        return step.expected.texts.get(source.property) ?? null
      case 'merged':
        return step.set.merged[source.at] ?? null
      case 'literal':
        return source.text
      case 'guard':
        return guardBind(mapping, step.guard)
      case 'actor':
        return options.actor
      case 'digest key':
        return digestKeyPads(target.digestKey)
      case 'parameter':
      case 'loaded':
      case 'loaded guard':
      case 'outcome':
      case 'value':
      case 'step':
      case 'place':
      case 'offset':
      case 'limit':
      case 'run':
        return null
      case 'entry':
        return {
          id: header.id,
          statement: statementId(mapping, statement.step, kind),
          binds: toTextArray(shown),
          note: header.note,
        }[source.field]
    }
  }

  /** Adds what only somebody else can say: who held the lock, who changed or removed the record. */
  function tellMore(problem: LedgermanProblem): LedgermanProblem | Promise<LedgermanProblem> {
    const isLoaded = step.guard !== 'any' && step.guard.guards.length > 0
    if (problem.code === 'lock-timeout') {
      const waitedMs = performance.now() - started
      return lockTimeout(problem, lineHolders ?? watch?.holders ?? [], target.limits.lockWaitMs, undefined, waitedMs)
    }
    if (problem.code === 'record-changed')
      return explainConflict(
        target,
        mapping,
        step.key,
        step.guard === 'any' ? [] : step.guard.guards,
        problem,
        options.actor,
      )
    if (problem.code === 'no-such-record' && isLoaded) return explainRemoved(target, mapping, step.key, problem)
    return problem
  }

  /** Makes the problem of a run that was rolled back, with its receipt, and writes the refusal to the book. */
  async function refuse(error: unknown): Promise<unknown> {
    const isOverdue = error instanceof NoTurn || (isCancelled(error) && watch?.hasCancelled === true)
    const raised = isOverdue ? notGranted(mapping, error) : raisedByStatement(error, mapping)
    if (error instanceof NoTurn) lineHolders = error.holders
    const explained = target.explain(raised ?? error, {
      mapping,
      slots: statement.run.slots,
      kind,
    })
    if (!isProblem(explained)) return explained
    const problem = await tellMore(explained)
    const matched = matchedOf(problem)
    const receipt = refusedReceipt(matched)
    const record = step.key.size === 0 ? undefined : { mapping, key: showableKey(target, mapping, step.key) }
    const isBooked =
      isCommit &&
      (await recordRefusal(target, {
        id: header.id,
        startedAt: header.startedAt,
        actor: header.actor,
        note: header.note,
        problem,
        detail: problem.detail,
        matched,
        record,
        statement: statementId(mapping, statement.step, kind),
        binds: shown,
      }))
    if (!isBooked) receipt.entry = null
    return problem.with({ receipt })
  }

  function refusedReceipt(matched: number | null): Receipt {
    return receiptFor('refused', { matched, changed: 0, durationMs: performance.now() - started, rows: [] })
  }
}

/** What the one row of the statement says; throws the problem where the step was refused. */
function judge(target: Target, mapping: Mapping, step: KeyedStep, rows: Rows['rows'], isCommit: boolean) {
  const { statement, key } = step
  const [row] = rows
  if (!row) throw noSuchRecord(mapping, key)
  if (rows.length > 1) throw ambiguousRecord(mapping, key)
  const read = readKeyedRow(mapping, statement, row)
  if (!read.guardHolds || !read.asExpected) throw recordChanged(mapping, step, read.before ?? [], read.guardBefore)
  if (read.differs && !read.written) throw rowNotWritten(mapping)
  if (read.brokenRule !== null) throw ruleBroken(mapping, read.brokenRule)
  const texts = read.after ?? read.before ?? []
  // After a rehearsal the record is as it was, and so is its guard; a record that was only rehearsed has none yet.
  const guard = toGuard(mapping, read.written && isCommit ? read.guardAfter : read.guardBefore)
  return {
    // It is committed by now: what JSON cannot carry is left out, and said.
    ...tellRecord(mapping, mapping.properties, texts),
    guard,
    row: read.written ? rowReceipt(target, mapping, step, read) : null,
  }
}

function withLost(receipt: Receipt, lost: ToldRecord['lost']): Receipt {
  return lost.length === 0 ? receipt : { ...receipt, notShown: lost.map(({ why }) => why) }
}

function rowReceipt(
  target: Target,
  mapping: Mapping,
  { statement }: KeyedStep,
  { before, after }: ReturnType<typeof readKeyedRow>,
) {
  const { touched } = statement
  const side = (texts: readonly (string | null)[] | null) =>
    texts && touched.map((property) => showable(target, property, texts[mapping.properties.indexOf(property)] ?? null))
  const keyFrom = before ?? after ?? []
  const image = {
    key: mapping.key.map((property) =>
      showable(target, property, keyFrom[mapping.properties.indexOf(property)] ?? null),
    ),
    touched,
    before: side(before),
    after: statement.kind === 'remove' ? null : side(after),
  }
  return toRowReceipt(mapping, image, (property) => statement.set.includes(property))
}

/** How often a keyed change that PostgreSQL ended to keep others consistent is tried again. */
const RETRIES = 3

/** Runs the statement by itself where it judges and books by itself, and between BEGIN and the end otherwise. */
async function runStatement(
  target: Target,
  mapping: Mapping,
  { statement, key }: KeyedStep,
  valueOf: Parameters<typeof bindValues>[1],
  { mode, actor, request, id }: RunOptions & { id: string },
  startWatch: (pid: number, turn?: Turn) => LockWatch,
): Promise<Rows['rows']> {
  const { kind, run, set, shared } = statement
  const isCommit = mode === 'commit'
  // A new record of defaults only has no part that its values are read from, and so none that sets the actor first.
  const setsActor = kind !== 'add' || set.length > 0
  const isSelfChecking =
    isCommit &&
    !request &&
    setsActor &&
    mapping.table.kind !== 'view' &&
    !mapping.table.rowSecurity &&
    !mayBeWrittenAgain(mapping)
  const record = mapping.key.map(({ name }) => JSON.stringify(key.get(name) ?? null)).join()
  const subject = kind === 'add' ? undefined : `${mapping.table.path} ${record}`
  const once = (preparedAs: string | undefined, turn: Turn | undefined) => {
    const values = bindValues(run, valueOf)
    if (isSelfChecking) return target.runAlone(run.text, values, preparedAs, (pid) => startWatch(pid, turn))
    return (isCommit ? inTransaction : inRehearsal)(target, async (session) => {
      const watch = startWatch(session.pid, turn)
      try {
        await session.query(`select pg_catalog.set_config('ledgerman.actor', $1, true)`, [actor])
        if (request && isCommit) await holdRequest(target, session, mapping, actor, request)
        const rows = await session.query(run.text, values, preparedAs)
        // Where the key is none after all (a view), several rows would be changed: leave by the way that rolls back.
        if (rows.rows.length > 1) throw ambiguousRecord(mapping, new Map())
        if (rows.rows.length === 0 && (await isHidden(session, mapping, key))) throw rowNotWritten(mapping)
        if (mayBeWrittenAgain(mapping))
          await readAgain(target, session, mapping, statement, key, rows.rows[0], isCommit ? id : null)
        if (request && isCommit)
          await session.query('update ledgerman.entry set request_key = $2, request_digest = $3 where id = $1', [
            id,
            request.key,
            request.digest,
          ])
        return rows
      } finally {
        watch.end()
        await watch.settled
        if (watch.hasCancelled) session.retire()
      }
    })
  }
  const inTurn = async (preparedAs: string | undefined) => {
    const turn = subject === undefined ? undefined : await target.recordTurns.enter(subject, target.limits.lockWaitMs)
    let isHeld = false
    try {
      return (await once(preparedAs, turn)).rows
    } catch (error) {
      isHeld = isLockTimeout(error) || isCancelled(error)
      throw error
    } finally {
      turn?.leave(isHeld)
    }
  }
  const alone = async (): Promise<Rows['rows']> => {
    for (let tries = 1; ; tries++) {
      try {
        return await inTurn(tries === 1 ? run.name : undefined)
      } catch (error) {
        // The table was altered since the session prepared the statement, or the row moved to another partition meanwhile.
        const mayRetry = isStalePlan(error) ? tries === 1 : isSerializationFailure(error) && tries <= RETRIES
        if (!mayRetry) throw error
        if (!isStalePlan(error)) await delay(Math.random() * 10 * 2 ** tries)
      }
    }
  }
  if (!isSelfChecking || !shared || target.recordTurns.isCrowded(subject ?? '')) return alone()
  return target.shared(shared, { answers: (rows) => isAnswer(mapping, rows), isRead: false }).ask({
    values: () => bindValues(shared, valueOf),
    subject: record,
    alone,
    onStart: (pid) => void startWatch(pid),
  })
}

/** The problem of a lock that was waited for as long as it may be, here or in the database. */
function notGranted(mapping: Mapping, cause: unknown): LedgermanProblem {
  return new LedgermanProblem('lock-timeout', 'A lock was not granted in time.', { mapping: mapping.name }, { cause })
}

/** Whether a shared statement said what became of the record: it leaves out one that somebody has locked, or that is not there. */
function isAnswer(mapping: Mapping, [row]: Rows['rows']): boolean {
  const verdict = row?.[mapping.properties.length + FLAGS.indexOf('verdict')]
  return verdict !== undefined && verdict !== SHOULD_BE_WRITTEN
}

/** Of `VERDICTS`: it may be written, would differ, and was not. */
const SHOULD_BE_WRITTEN = 'tttf'

/** Holds the key for this transaction. Whoever sent it looked before; one that came to its end since then is found the next time. */
async function holdRequest(
  target: Target,
  session: Queryable,
  mapping: Mapping,
  actor: string,
  request: BookedRequest,
) {
  const before = await findRequest(target, session, { mappings: new Map([[mapping.name, mapping]]) }, actor, request)
  if (before)
    throw new LedgermanProblem(
      'idempotency-key-in-use',
      'The first request with this Idempotency-Key has only just ended. Ask again.',
      { key: request.key },
    )
}

/** The problem that the statement raised by itself; undefined for any other error. */
function raisedByStatement(error: unknown, mapping: Mapping): LedgermanProblem | undefined {
  if (!isDatabaseError(error) || error.code !== REFUSED_BY_BOOK) return undefined
  const rule = /^rule-broken (\d+)$/.exec(error.message)?.[1]
  return rule === undefined ? rowNotWritten(mapping) : ruleBroken(mapping, Number(rule))
}

function matchedOf({ code, facts }: LedgermanProblem): number | null {
  if (typeof facts['matched'] === 'number') return facts['matched']
  return code === 'no-such-record' ? 0 : null
}

/** What is known of a run before it begins. */
export function toHeader(
  target: Target,
  mapping: Mapping,
  { mode, actor, note }: Pick<RunOptions, 'mode' | 'actor' | 'note'>,
): RunHeader {
  return {
    id: newEntryId(),
    target: target.name,
    mode,
    revision: mapping.revision,
    actor,
    note: note ?? null,
    startedAt: new Date().toISOString(),
  }
}

function showableKey(target: Target, mapping: Mapping, key: KeyTexts): (string | null)[] {
  return mapping.key.map((property) => showable(target, property, key.get(property.name) ?? null))
}
