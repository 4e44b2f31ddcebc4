import { setTimeout as delay } from 'node:timers/promises'
import { isProblem, LedgermanProblem } from '@ledgerman/contract'
import { newEntryId } from '../book/entry-id.js'
import { commitSettled } from '../book/settle.js'
import { connectionBroke, NOT_COMMITTED } from '../sessions/connection-problem.js'
import { isConnectionError } from '../sessions/connection-error.js'
import { isCancelled, isSerializationFailure } from '../sessions/database-error.js'
import { isTimeLimit } from '../sessions/database-words.js'
import { assertSeesTables, refusalOrBlind } from '../sessions/rewritten-tables.js'
import type { OwnSession } from '../sessions/own-session.js'
import type { Target } from '../target/target.js'
import { lockTimeout } from '../sessions/lock-timeout.js'
import { LockWatch } from '../sessions/lock-watch.js'
import { bookBulk, bookRefusedBulk, findBookedPart, introduceBulk, resultOf, type BulkHeader } from './book-bulk.js'
import { BulkRefused, type BulkRequest, type BulkResult, type GivenValue } from './bulk-request.js'
import type { BulkShape } from './bulk-shape.js'
import { isRefusal, statementOfError } from './bulk-errors.js'
import { BulkUnit } from './bulk-unit.js'
import { WorkTables } from './work-tables.js'
import { besideOf, countBeside } from './written-beside.js'
import type { UnitOptions, UnitResult } from './unit-options.js'

/** How often a part is tried where PostgreSQL ends it to keep others consistent. */
const MOST_ATTEMPTS = 4
const LONGEST_BACKOFF_MS = 500

/** How long a cancelled session may take to be done, in milliseconds, before its connection is broken off. */
const CANCEL_LIMIT_MS = 3_000

/** Memory that such a session may take: for blocks of images, which a sort or a hash puts together, and for its temporary tables. */
export const SESSION_MEMORY = { work_mem: '64MB', temp_buffers: '64MB' }

/** What is changed, as it was asked: the same for all parts of a job. */
export interface BulkTask {
  target: Target
  shape: BulkShape
  request: BulkRequest
  given: GivenValue
  /** A change by condition: which, as it was written and may be kept. */
  condition: string | null
}

/** A session of a job's own, in which its parts are run: cancelled when the job is, and broken off where that does not help. */
export class BulkSession {
  #cancelling: Promise<void> | undefined
  #isStaged: boolean
  readonly #onAbort = () => {
    this.#cancelling ??= this.#cancel()
  }

  private constructor(
    readonly task: BulkTask,
    readonly session: OwnSession,
  ) {
    this.#isStaged = !BulkUnit.isDirect(task.shape)
    task.request.signal.addEventListener('abort', this.#onAbort, { once: true })
  }

  /** Runs `work` in a session of its own. @throws LedgermanProblem target-unavailable, target-denied, cancelled */
  static async within<T>(task: BulkTask, work: (session: BulkSession) => Promise<T>): Promise<T> {
    const { target, request } = task
    if (request.signal.aborted) throw jobCancelled()
    const session = await target.openOwnSession(request.timeLimitMs, 'job', SESSION_MEMORY)
    const held = new BulkSession(task, session)
    try {
      await assertHeld(request)
      return await work(held)
    } catch (error) {
      throw held.explain(error)
    } finally {
      request.signal.removeEventListener('abort', held.#onAbort)
      await held.#cancelling
      await session.close()
    }
  }

  /**
   * Runs one part: a transaction, all or nothing, committed with its entry; a rehearsal is rolled back.
   *
   * @param beforeCommit told what the part did, where what it tells has to be kept before the part is.
   */
  async run(
    chunk: number | null,
    options: Omit<UnitOptions, 'isBooked' | 'entry'>,
    beforeCommit?: (result: UnitResult) => Promise<void>,
  ): Promise<BulkResult> {
    const { target, shape, request } = this.task
    const isBooked = request.mode === 'commit'
    for (let attempts = 1; ; attempts++) {
      const header: BulkHeader = {
        id: newEntryId(),
        startedAt: new Date().toISOString(),
        chunk,
        isolation: this.#isStaged ? 'read committed' : 'repeatable read',
        attempts,
        durationMs: null,
        condition: this.task.condition,
      }
      try {
        return await this.#attempt(header, { ...options, isBooked, entry: header.id }, beforeCommit)
      } catch (error) {
        if (isSerializationFailure(error) && attempts < MOST_ATTEMPTS) {
          target.activity.retried?.()
          // Others write the same rows: they are locked first, from now on, so that nothing they do ends it again.
          this.#isStaged = true
          await delay(Math.random() * LONGEST_BACKOFF_MS)
          continue
        }
        const refused = this.#asRefused(error)
        if (!refused) throw error
        // Whoever ran it before, and was not heard of any more, may have committed it meanwhile.
        const booked = isBooked ? await findBookedPart(target, request, chunk) : undefined
        if (booked) return resultOf(booked)
        refused.entry = await bookRefusedBulk(target, shape, request, header, refused)
        throw refused
      }
    }
  }

  async #attempt(
    header: BulkHeader,
    options: UnitOptions,
    beforeCommit: ((result: UnitResult) => Promise<void>) | undefined,
  ): Promise<BulkResult> {
    const { task, session } = this
    const { target, request, shape } = task
    const started = performance.now()
    const watch = new LockWatch(target, session.pid, target.limits.lockWaitMs, request.onWait)
    let isOver = false
    try {
      await session.query(this.#isStaged ? 'begin' : 'begin isolation level repeatable read')
      await session.query(
        `select pg_catalog.set_config('ledgerman.actor', $1, true), pg_catalog.set_config('application_name', 'ledgerman run ' || $2::text, true)`,
        [request.actor, header.id],
      )
      const unit = new BulkUnit(target, new WorkTables(session), shape, request, options, task.given, this.#isStaged)
      const count = await countBeside(session, shape, request)
      const result = await unit.run().catch(async (error: unknown) => {
        throw await refusalOrBlind(session, header.isolation, error)
      })
      await assertSeesTables(session, header.isolation)
      Object.assign(result.report, await besideOf(shape, result, count))
      await beforeCommit?.(result)
      const done = { report: result.report, evidence: result.evidence }
      if (request.mode === 'rehearse' || options.isOnlyJudged) {
        await session.query('rollback')
        isOver = true
        return { ...done, entry: null }
      }
      await introduceBulk(target, shape, result.steps)
      const { durationMs } = { durationMs: Math.round(performance.now() - started) }
      await bookBulk(target, session, shape, request, { ...header, durationMs }, result.steps, result.report)
      watch.end()
      await assertHeld(request)
      isOver = true
      await commitSettled(target, session, { id: header.id, actor: request.actor, note: request.note })
      return { ...done, entry: header.id }
    } catch (error) {
      if (watch.hasCancelled && isCancelled(error) && !request.signal.aborted)
        throw lockTimeout(
          new LedgermanProblem('lock-timeout', 'A lock was not granted in time.', {}, { cause: error }),
          watch.holders,
          target.limits.lockWaitMs,
        )
      const explained = this.explain(error)
      if (isProblem(explained, 'lock-timeout')) throw lockTimeout(explained, watch.holders, target.limits.lockWaitMs)
      throw error
    } finally {
      watch.end()
      await watch.settled
      if (!isOver) await session.query('rollback').catch(() => undefined)
    }
  }

  /** A part that may not stand, told as such; undefined for what says nothing of it: a broken connection, a cancel. */
  #asRefused(error: unknown): BulkRefused | undefined {
    if (error instanceof BulkRefused) return error
    const explained = this.explain(error)
    return isRefusal(explained) ? new BulkRefused(explained, null) : undefined
  }

  /** Makes a problem of whatever went wrong. */
  explain(error: unknown): unknown {
    const { target, shape, request } = this.task
    if (error instanceof BulkRefused || isProblem(error)) return error
    if (request.signal.aborted && (isCancelled(error) || isConnectionError(error))) return jobCancelled(error)
    // Where it broke at COMMIT, the book was asked.
    if (isConnectionError(error)) return connectionBroke(target.name, error, NOT_COMMITTED)
    const statement = statementOfError(error)
    return target.explain(error, {
      mapping: shape.mapping,
      kind: shape.kind,
      ...(statement ? { statement, slots: statement.slots } : {}),
      isOfMany: true,
      ...(isTimeLimit(error) ? { timeLimitMs: request.timeLimitMs } : {}),
    })
  }

  async #cancel(): Promise<void> {
    const timer = setTimeout(() => this.session.breakOff(), CANCEL_LIMIT_MS)
    timer.unref()
    await this.task.target.giveUp(this.session)
  }
}

export function jobCancelled(cause?: unknown): LedgermanProblem {
  return new LedgermanProblem('cancelled', 'The job was cancelled; what was under way was rolled back.', {}, { cause })
}

/** @throws LedgermanProblem cancelled, where the job was cancelled, or is no longer whose it was. */
export async function assertHeld({ signal, isHeld }: Pick<BulkRequest, 'signal' | 'isHeld'>): Promise<void> {
  if (signal.aborted || (isHeld && !(await isHeld()))) throw jobCancelled()
}
