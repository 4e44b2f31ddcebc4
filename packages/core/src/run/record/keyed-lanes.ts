import { setTimeout as delay } from 'node:timers/promises'
import { LedgermanProblem } from '@ledgerman/contract'
import { findRequest } from '../../book/find-replay.js'
import type { BookedRequest } from '../../book/book-run.js'
import { PASSED, refused, type Lane, type Sent } from '../lanes/lane.js'
import type { Mapping } from '../../mapping/mapping.js'
import { isConnectionError } from '../../sessions/connection-error.js'
import { isCancelled, isLockTimeout, isSerializationFailure, isStalePlan } from '../../sessions/database-error.js'
import type { Rows } from '../../sessions/queryable.js'
import type { Session } from '../../sessions/session-pool.js'
import type { Turn } from '../../sessions/sharing/turn-queue.js'
import { FLAGS } from '../../statement/keyed-statement.js'
import { bindValues, type Statement } from '../../statement/statement.js'
import { inRehearsal, inTransaction } from '../../target/in-transaction.js'
import { rowNotWritten } from './change-problems.js'
import { judgeRows } from './judge-rows.js'
import type { KeyedRow } from './keyed-row.js'
import type { KeyedRun } from './keyed-run.js'
import { ambiguousRecord } from './load-record.js'
import { isHidden, mayBeWrittenAgain, readAgain } from './read-again.js'
import { countWrittenWithIt } from './written-with-it.js'

/** How often a keyed change that PostgreSQL ended to keep others consistent is tried again. */
const RETRIES = 3

/** The ways a keyed step may go: with others, or alone, as one statement or between BEGIN and the end. */
export function keyedLanes(run: KeyedRun): Lane<KeyedRow>[] {
  const { step, target, mapping } = run
  const { shared } = step.statement
  const record = mapping.key.map(({ name }) => JSON.stringify(step.key.get(name) ?? null)).join()
  const subject = step.statement.kind === 'add' ? undefined : `${mapping.table.path} ${record}`
  if (!judgesByItself(run)) return [alone(run, 'step by step', subject, sendInTransaction)]
  const isShared = shared && !target.recordTurns.isCrowded(subject ?? '')
  return [...(isShared ? [together(run, shared, record)] : []), alone(run, 'one statement', subject, sendAlone)]
}

/** Whether the statement refuses and books by itself, so that it needs no transaction around it. */
function judgesByItself({ isCommit, options, step, mapping }: KeyedRun): boolean {
  const { kind, set } = step.statement
  // A new record of defaults only has no part that its values are read from, and so none that sets the actor first.
  const setsActor = kind !== 'add' || set.length > 0
  const { table } = mapping
  return (
    isCommit &&
    !options.request &&
    setsActor &&
    table.kind !== 'view' &&
    !table.rowSecurity &&
    !mayBeWrittenAgain(mapping, kind)
  )
}

/** Shares a statement with whoever changes other records at the same time. */
function together(run: KeyedRun, statement: Statement, record: string): Lane<KeyedRow> {
  const { target, mapping } = run
  return {
    name: 'shared',
    send: () =>
      outcomeOf(run, async () => {
        const rows = await target.shared(statement, { answers: (rows) => isAnswer(mapping, rows), isRead: false }).ask({
          values: () => bindValues(statement, run.valueOf),
          subject: record,
          alone: () => Promise.resolve([]),
          onStart: (pid) => void run.watch(pid),
        })
        return rows.length === 0 ? PASSED : { state: 'committed', found: judgeRows(run, rows) }
      }),
  }
}

/** Goes alone, after others who are at the same record; is tried again where PostgreSQL ended it to keep others consistent. */
function alone(
  run: KeyedRun,
  name: Lane<KeyedRow>['name'],
  subject: string | undefined,
  send: (run: KeyedRun, preparedAs: string | undefined, turn: Turn | undefined) => Promise<KeyedRow>,
): Lane<KeyedRow> {
  const state = run.isCommit ? 'committed' : 'rehearsed'
  const attempt = async (): Promise<KeyedRow> => {
    for (let tries = 1; ; tries++) {
      try {
        return await inLine(run, subject, (turn) =>
          send(run, tries === 1 ? run.step.statement.run.name : undefined, turn),
        )
      } catch (error) {
        // The table was altered since the session prepared the statement, or the row moved to another partition meanwhile.
        const mayRetry = isStalePlan(error) ? tries === 1 : isSerializationFailure(error) && tries <= RETRIES
        if (!mayRetry) throw error
        if (!isStalePlan(error)) await delay(Math.random() * 10 * 2 ** tries)
      }
    }
  }
  return { name, send: () => outcomeOf(run, async () => ({ state, found: await attempt() })) }
}

async function inLine<T>(
  { target }: KeyedRun,
  subject: string | undefined,
  work: (turn: Turn | undefined) => Promise<T>,
): Promise<T> {
  const turn = subject === undefined ? undefined : await target.recordTurns.enter(subject, target.limits.lockWaitMs)
  let isHeld = false
  try {
    return await work(turn)
  } catch (error) {
    isHeld = isLockTimeout(error) || isCancelled(error)
    throw error
  } finally {
    turn?.leave(isHeld)
  }
}

async function sendAlone(run: KeyedRun, preparedAs: string | undefined, turn: Turn | undefined): Promise<KeyedRow> {
  const statement = run.step.statement.run
  const values = bindValues(statement, run.valueOf)
  const { rows } = await run.target.runAlone(statement.text, values, preparedAs, (pid) => run.watch(pid, turn))
  return judgeRows(run, rows)
}

/** Between BEGIN and COMMIT, or ROLLBACK; what is refused leaves by the way that rolls back. */
function sendInTransaction(run: KeyedRun, preparedAs: string | undefined, turn: Turn | undefined): Promise<KeyedRow> {
  const { target, isCommit } = run
  return (isCommit ? inTransaction : inRehearsal)(target, async (session) => {
    const watch = run.watch(session.pid, turn)
    try {
      return await sendBetween(run, session, preparedAs)
    } finally {
      watch.end()
      await watch.settled
      if (watch.hasCancelled) session.retire()
    }
  })
}

async function sendBetween(run: KeyedRun, session: Session, preparedAs: string | undefined): Promise<KeyedRow> {
  const { target, mapping, step, options, isCommit, header } = run
  const { statement, key } = step
  const request = isCommit ? options.request : undefined
  await session.query(`select pg_catalog.set_config('ledgerman.actor', $1, true)`, [options.actor])
  if (request) await holdRequest(run, session, request)
  const { kind, set } = statement
  const count = isCommit ? undefined : await countWrittenWithIt(session, [{ mapping, kind, set }])
  const { rows } = await session.query(statement.run.text, bindValues(statement.run, run.valueOf), preparedAs)
  // Where the key is none after all (a view), several rows would be changed.
  if (rows.length > 1) throw ambiguousRecord(mapping, new Map())
  if (rows.length === 0 && (await isHidden(session, mapping, key))) throw rowNotWritten(mapping, statement.kind)
  if (mayBeWrittenAgain(mapping, statement.kind))
    await readAgain(target, session, mapping, statement, key, rows[0], isCommit ? header.id : null)
  const judged = judgeRows(run, rows)
  if (count) {
    await session.query('set constraints all immediate')
    run.writtenWithIt = await count()
  }
  if (request)
    await session.query('update ledgerman.entry set request_key = $2, request_digest = $3 where id = $1', [
      header.id,
      request.key,
      request.digest,
    ])
  return judged
}

/** Holds the key for this transaction. Whoever sent it looked before; one that came to its end since then is found the next time. */
async function holdRequest({ target, options }: KeyedRun, session: Session, request: BookedRequest) {
  const before = await findRequest(target.name, session, options.actor, request)
  if (before !== undefined)
    throw new LedgermanProblem(
      'idempotency-key-in-use',
      'The first request with this Idempotency-Key has only just ended. Ask again.',
      { key: request.key },
    )
}

async function outcomeOf(run: KeyedRun, send: () => Promise<Sent<KeyedRow>>): Promise<Sent<KeyedRow>> {
  try {
    return await send()
  } catch (error) {
    return run.isCommit && isConnectionError(error) ? { state: 'in doubt', error } : refused(error)
  } finally {
    run.endWatch()
  }
}

/** Whether a shared statement said what became of the record: it leaves out one that somebody has locked, or that is not there. */
function isAnswer(mapping: Mapping, [row]: Rows['rows']): boolean {
  const verdict = row?.[mapping.properties.length + FLAGS.indexOf('verdict')]
  return verdict !== undefined && verdict !== SHOULD_BE_WRITTEN
}

/** Of `VERDICTS`: it may be written, would differ, and was not. */
const SHOULD_BE_WRITTEN = 'tttf'
