import { withoutValues } from '../../sessions/database-words.js'
import {
  entryAddress,
  LedgermanProblem,
  type Receipt,
  type RunMode,
  type StepReceipt,
  roundMs,
} from '@ledgerman/contract'
import { bookSteps, bulkReversibility, findBookedPart, introduceBulk, type BulkStep } from '../book-bulk.js'
import { isRefusal } from '../bulk-errors.js'
import { BulkRefused, nothingGiven, type BulkEvidence, type BulkRequest } from '../bulk-request.js'
import type { BulkShape } from '../bulk-shape.js'
import { assertHeld, SESSION_MEMORY } from '../bulk-session.js'
import { BulkUnit } from '../bulk-unit.js'
import type { UnitResult } from '../unit-options.js'
import { SHOWN_ROWS } from '../find-statements.js'
import { WorkTables } from '../work-tables.js'
import { newEntryId } from '../../book/entry-id.js'
import type { FindMapping } from '../../book/find-mapping.js'
import { recordRefusal } from '../../book/record-refusal.js'
import { commitSettled } from '../../book/settle.js'
import type { Mapping } from '../../mapping/mapping.js'
import { showableBinds, toBindReceipts, toShownStatement } from '../../statement/shown-statement.js'
import { connectionBroke, NOT_COMMITTED } from '../../sessions/connection-problem.js'
import { isConnectionError } from '../../sessions/connection-error.js'
import { isDatabaseError, isSerializationFailure } from '../../sessions/database-error.js'
import type { OwnSession } from '../../sessions/own-session.js'
import { assertSeesTables, refusalOrBlind } from '../../sessions/rewritten-tables.js'
import type { Target } from '../../target/target.js'
import { addAgain } from './add-again.js'
import { assertEntry } from './entries-since.js'
import { readUndoSteps, type UndoStep } from './undo-steps.js'
import { changedRows, fillGiven } from './given-images.js'
import { columnShortened, reversalConflict } from './reversal-problems.js'
import { putBackTurned } from './turned-images.js'
import { shapeOf } from './undo-shape.js'

export interface ReversalRequest {
  mode: RunMode
  actor: string
  note: string | null
  /** Puts back what is as the entries left it, and says what it left. */
  onlyUnchanged: boolean
  /** What a rehearsal saw, where exactly that is to be put back. */
  rehearsed?: readonly BulkEvidence[] | undefined
  timeLimitMs: number
  signal: AbortSignal
  isHeld?: BulkRequest['isHeld']
  /** The job that it is, where it is one: its entry is written once. */
  job?: string | undefined
  onProgress?: ((rows: number) => void) | undefined
}

export interface ReversalResult {
  receipt: Receipt
  evidence: BulkEvidence[]
}

const MOST_ATTEMPTS = 4

/**
 * Puts entries back, the newest step first, in one transaction: before-images are restored, what was added is removed, what was removed is
 * added again; one statement a step, whatever the number of rows. Only rows that are as the entries left them are written.
 *
 * @param entries ids, the newest first
 * @throws LedgermanProblem not-found, not-reversible, reversal-conflict, rehearsal-stale, and as a run
 */
export async function reverseEntries(
  target: Target,
  entries: readonly string[],
  findMapping: FindMapping,
  request: ReversalRequest,
): Promise<ReversalResult> {
  await target.assertBook()
  const { steps, gaps } = await readUndoSteps(target, entries, findMapping).catch((error: unknown) => {
    throw target.explain(error)
  })
  if (steps.length === 0) {
    await assertEntry(target, ...entries)
    throw new LedgermanProblem('not-reversible', 'There is nothing to put back: it changed no row.', { entries })
  }
  let isStaged = !steps.every((step) => BulkUnit.isDirect(shapeOf(step)))
  for (let attempt = 1; ; attempt++) {
    const reversal = new Reversal(
      target,
      entries,
      steps,
      gaps.map(({ words }) => words),
      request,
      isStaged,
    )
    try {
      return await reversal.run()
    } catch (error) {
      if (isSerializationFailure(error) && attempt < MOST_ATTEMPTS) {
        // Others write the same rows: they are locked first, from now on, so that nothing they do ends it again.
        isStaged = true
        continue
      }
      throw await reversal.refuse(error)
    }
  }
}

/** A reversal on its way. */
class Reversal {
  readonly #id = newEntryId()
  readonly #startedAt = new Date().toISOString()
  readonly #started = performance.now()
  readonly #receipts: StepReceipt[] = []
  readonly #booked: { shape: BulkShape; step: BulkStep }[] = []
  readonly #evidence: BulkEvidence[] = []
  readonly #gaps: Set<string>
  #through = 0
  readonly #left: NonNullable<Receipt['leftAsIs']> = []

  constructor(
    readonly target: Target,
    readonly entries: readonly string[],
    readonly steps: readonly UndoStep[],
    gaps: readonly string[],
    readonly request: ReversalRequest,
    /** Whether rows are locked and kept in a table before they are judged; else all of it sees one snapshot. */
    readonly isStaged: boolean,
  ) {
    this.#gaps = new Set(gaps)
  }

  async run(): Promise<ReversalResult> {
    const { target, request } = this
    const session = await target.openOwnSession(request.timeLimitMs, 'reversal', SESSION_MEMORY)
    const onAbort = () => void target.giveUp(session)
    request.signal.addEventListener('abort', onAbort, { once: true })
    let isOver = false
    try {
      await assertHeld(request)
      await session.query(`begin isolation level ${this.#isolation}`)
      await session.query(
        `select pg_catalog.set_config('ledgerman.actor', $1, true), pg_catalog.set_config('application_name', 'ledgerman run ' || $2::text, true)`,
        [request.actor, this.#id],
      )
      const tables = new WorkTables(session)
      try {
        for (const step of this.steps) await this.#undo(tables, step)
      } catch (error) {
        throw await refusalOrBlind(session, this.#isolation, error)
      }
      await assertSeesTables(session, this.#isolation)
      await session.query('set constraints all immediate')
      this.#assertAsRehearsed()
      if (request.mode === 'rehearse') {
        await session.query('rollback')
        isOver = true
        return { receipt: this.#receipt('rehearsed'), evidence: this.#evidence }
      }
      for (const { shape, step } of this.#booked) await introduceBulk(target, shape, [step])
      const receipt = this.#receipt('committed')
      await this.#book(session, receipt)
      await assertHeld(request)
      isOver = true
      await commitSettled(target, session, { id: this.#id, actor: request.actor, note: request.note })
      return { receipt, evidence: this.#evidence }
    } finally {
      request.signal.removeEventListener('abort', onAbort)
      if (!isOver) await session.query('rollback').catch(() => undefined)
      await session.close()
    }
  }

  get #isolation(): 'read committed' | 'repeatable read' {
    return this.isStaged ? 'read committed' : 'repeatable read'
  }

  /** Puts one step back. */
  async #undo(tables: WorkTables, step: UndoStep): Promise<void> {
    const no = this.#receipts.length + 1
    const { shape, result } = (await this.#turn(tables.session, step, no)) ?? (await this.#undoRows(tables, step, no))
    const [done] = result.steps
    if (!done) return
    this.#evidence.push(result.evidence)
    this.#left.push(
      ...result.failed.slice(0, SHOWN_ROWS).map(({ key, reason }) => ({ mapping: shape.mapping.name, key, reason })),
    )
    this.#booked.push({ shape, step: done })
    this.#through += done.matched
    this.request.onProgress?.(this.#through)
    this.#receipts.push({
      no,
      kind: done.kind,
      mapping: shape.mapping.name,
      as: null,
      skipped: false,
      ...toShownStatement(
        done.statement,
        toBindReceipts(done.statement.slots, showableBinds(done.statement.slots, done.binds, this.target.digestKey)),
      ),
      expected: 'any',
      matched: done.matched,
      changed: done.changed,
      durationMs: null,
      rows: result.report.rows,
    })
  }

  /** Puts it back by its own images, where that is known to be the same. A rehearsal's evidence needs the rows. */
  async #turn(session: OwnSession, step: UndoStep, no: number) {
    const { mode, rehearsed } = this.request
    if (this.isStaged || mode !== 'commit' || rehearsed !== undefined) return null
    const result = await putBackTurned(this.target, session, step, { no, entry: this.#id })
    return result && { shape: { ...shapeOf(step), step: no }, result }
  }

  async #undoRows(tables: WorkTables, step: UndoStep, no: number) {
    const { count, seen, lost, shortened } = await fillGiven(tables, step, shapeOf(step), this.target.digestKey)
    if (shortened.length > 0) throw columnShortened(step.mapping, shortened)
    const shape = { ...shapeOf(step, seen), step: no }
    if (lost.length > 0)
      this.#gaps.add(
        `${step.mapping.name}: ${lost.map(({ name }) => name).join(', ')} stays as it is, since the book has only digests of it`,
      )
    const { target, request } = this
    const isBooked = request.mode === 'commit'
    const result =
      step.kind === 'remove'
        ? await addAgain(target, tables.session, shape, { ...request, count, entry: this.#id, isBooked })
        : await this.#write(tables, shape, count)
    return { shape, result }
  }

  /** Changes back, or removes what was added, where rows are as the entry left them. */
  async #write(tables: WorkTables, shape: BulkShape, count: number): Promise<UnitResult> {
    const options = {
      expect: 'any' as const,
      leavesFailed: this.request.onlyUnchanged,
      isBooked: this.request.mode === 'commit',
      entry: this.#id,
      range: { first: 1, last: Math.max(1, count) },
      count,
      isWitnessed: this.request.rehearsed !== undefined,
    }
    const unit = new BulkUnit(this.target, tables, shape, this.#bulkRequest(), options, nothingGiven, this.isStaged)
    try {
      const result = await unit.run()
      return { ...result, steps: result.steps.slice(0, 1) }
    } catch (error) {
      if (!(error instanceof BulkRefused)) throw error
      const changed = error.failed.filter(({ code }) => code === 'record-changed' || code === 'no-such-record')
      if (changed.length === 0) throw error
      throw reversalConflict(shape.mapping, await changedRows(this.target, tables.session, shape), changed.length)
    }
  }

  #assertAsRehearsed(): void {
    const { rehearsed } = this.request
    const isSame = (seen: BulkEvidence, at: number) => {
      const now = this.#evidence[at]
      return now?.matched === seen.matched && now.digest === seen.digest
    }
    if (!rehearsed || (rehearsed.length === this.#evidence.length && rehearsed.every(isSame))) return
    throw new LedgermanProblem(
      'rehearsal-stale',
      'What was rehearsed is no longer what would be put back. Rehearse again.',
      { differs: [{ what: 'rows differ' }] },
    )
  }

  #book(session: OwnSession, receipt: Receipt): Promise<void> {
    return bookSteps(this.target, session, this.#id, this.request, this.#runOf(receipt), this.#booked, this.request.job)
  }

  #runOf(receipt: Receipt | null) {
    return {
      transaction: null,
      revision: null,
      isolation: this.#isolation,
      attempts: 1,
      durationMs: receipt?.durationMs ?? null,
      startedAt: this.#startedAt,
      reversible: receipt?.reversible ?? null,
      writes: this.steps
        .slice(0, 20)
        .map(({ kind, mapping }) => ({ kind: OPPOSITE[kind], mapping: mapping.name, where: null })),
      reverses: this.entries,
    }
  }

  /** What to throw for an error: told in the words of a reversal, and kept in the book where it was to be committed. */
  async refuse(error: unknown): Promise<unknown> {
    const problem =
      error instanceof BulkRefused
        ? error.problem
        : isConnectionError(error)
          ? connectionBroke(this.target.name, error, NOT_COMMITTED)
          : this.target.explain(error, this.#contextOf(error))
    if (this.request.mode !== 'commit' || !isRefusal(problem)) return problem
    const { job, actor } = this.request
    // Whoever ran the job before, and was not heard of any more, may have committed it meanwhile: that stands in the book, and no refusal.
    if (job !== undefined && (await findBookedPart(this.target, { job, actor }, null))) return problem
    const isSensitive = this.steps.some(({ mapping }) => mapping.properties.some(({ sensitive }) => sensitive))
    await recordRefusal(this.target, {
      id: this.#id,
      actor: this.request.actor,
      note: this.request.note,
      problem,
      detail: isSensitive ? withoutValues(problem.detail) : problem.detail,
      matched: null,
      run: this.#runOf(null),
      steps: [],
    })
    return problem
  }

  /** What is checked at the end only (a deferred constraint) is of no step: the error names its table. */
  #contextOf(error: unknown): { mapping?: Mapping } {
    const { schema = '', table = '' } = isDatabaseError(error) ? error : {}
    const step = this.steps.find(({ mapping }) => mapping.table.schema === schema && mapping.table.name === table)
    return step ? { mapping: step.mapping } : {}
  }

  #receipt(outcome: 'rehearsed' | 'committed'): Receipt {
    const { target, request } = this
    const gaps = [...this.#gaps]
    const each = this.#booked.map(({ shape, step }) => bulkReversibility(shape, [step]))
    return {
      id: this.#id,
      target: target.name,
      mode: request.mode,
      outcome,
      transaction: null,
      revision: null,
      actor: request.actor,
      note: request.note,
      startedAt: this.#startedAt,
      durationMs: roundMs(performance.now() - this.#started),
      attempts: 1,
      isolation: this.#isolation,
      replayed: false,
      steps: this.#receipts,
      rehearsal: null,
      entry: outcome === 'committed' ? entryAddress(target.name, this.#id) : null,
      reversible: each.every((one) => one === 'yes') ? 'yes' : each.every((one) => one === 'no') ? 'no' : 'partly',
      reverses: [...this.entries],
      ...(this.#left.length > 0 ? { leftAsIs: this.#left.slice(0, SHOWN_ROWS) } : {}),
      ...(gaps.length > 0 ? { notShown: gaps.map((words) => `Not put back: ${words}.`) } : {}),
    }
  }

  #bulkRequest(): BulkRequest {
    const { mode, actor, note, timeLimitMs, signal } = this.request
    return { job: this.#id, mode, actor, note, timeLimitMs, signal, onProgress: () => undefined }
  }
}

const OPPOSITE = { change: 'change', replace: 'change', add: 'remove', remove: 'add' } as const
