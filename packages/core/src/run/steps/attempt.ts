import { setTimeout as delay } from 'node:timers/promises'
import { LedgermanProblem, printJson, type RecordValues, type StepReceipt, roundMs } from '@ledgerman/contract'
import type { Mapping, Property } from '../../mapping/mapping.js'
import { shownStatement, type Judgement, type Plan, type PlannedStep, type PlannedWrite } from '../../plan/plan.js'
import { WRITE_FLAGS, widthBefore } from '../../statement/build-write-step.js'
import type { Statement } from '../../statement/statement.js'
import type { Rows } from '../../sessions/queryable.js'
import type { Session } from '../../sessions/session-pool.js'
import type { Target } from '../../target/target.js'
import { ruleBroken, rowNotWritten } from '../record/change-problems.js'
import type { WrittenWithIt } from '../record/written-with-it.js'
import { shownRecord } from '../../mapping/record-row.js'
import { showable } from '../../mapping/showable.js'
import { showableBinds, toBindReceipts, toShownStatement } from '../../statement/shown-statement.js'
import { EVIDENCE_ROWS, imageDigest, type Evidence } from './evidence.js'
import { statementOf, stepsAhead } from './ahead.js'
import { isExpected, unexpected } from './expectation.js'
import { playBack } from './play-back.js'
import type { RunState } from './run-state.js'
import { runRawStatement, sentStatement } from './raw-statement.js'
import type { SeenRows } from './seen-rows.js'
import { StepBinds } from './step-binds.js'
import { afterTexts, shownWrite, sidesOf } from './written-row.js'
import { askedKey, changedMeanwhile, heldByOthers, leavesNoneOut, requireBroken } from './step-refusals.js'

const RECEIPT_ROWS = 100

/** One attempt at a plan: its steps, one after the other, in a transaction that somebody else began. */
export class Attempt {
  readonly receipts: StepReceipt[] = []
  readonly evidence: Evidence = []
  /** The step that runs, or ran last; null before the first. */
  current: PlannedStep | null = null
  /** The record that somebody else changed meanwhile, where that is why the attempt failed. */
  conflict: { mapping: Mapping; key: ReadonlyMap<string, string>; guards: readonly string[] } | null = null
  /** The statement that runs, for telling its errors. */
  statement: Statement | null = null
  /** What else was written, where that was counted. */
  writtenWithIt: WrittenWithIt | null = null
  /** Whether statements are sent before the ones before them were judged, where nothing they bind is still to come. */
  sendsAhead = false
  readonly binds: StepBinds
  readonly #ahead = new Map<PlannedStep, Promise<Rows>>()
  /** Answers each statement where the run was one already. */
  #played: (() => Promise<Rows>) | null = null
  /** Told of every row that a step read or wrote, whole and in plain text, for drills. */
  onRows: ((rows: SeenRows) => void) | null = null

  constructor(
    readonly target: Target,
    readonly plan: Plan,
    readonly state: RunState,
    readonly session: Session,
    /** Whether images go into the book. */
    readonly isBooked: boolean,
    /** Whether what the steps read and match is kept as evidence. */
    readonly isWitnessed: boolean,
    /** Counts that a rehearsal fixed, by step. */
    readonly fixedCounts: ReadonlyMap<number, number>,
  ) {
    this.binds = new StepBinds(target, plan, state)
  }

  /** The same attempt with all its steps told, out of what it gave back as one statement. */
  async playedBack(rows: readonly (readonly (string | null)[])[]): Promise<Attempt> {
    const played = playBack(this.plan, rows)
    const told = new Attempt(this.target, this.plan, this.state, this.session, true, false, new Map())
    told.#played = played.next
    await told.runSteps()
    told.receipts.forEach((receipt, at) => {
      receipt.durationMs = played.durations[at] ?? null
    })
    return told
  }

  async runSteps(): Promise<void> {
    for (const step of this.plan.steps) await this.runStep(step)
  }

  async runStep(step: PlannedStep): Promise<void> {
    this.current = step
    const started = performance.now()
    if (step.when && !(await this.#holds(step.when))) {
      this.receipts.push(this.#receipt(step, started, { skipped: true, matched: null, changed: null, rows: [] }))
      if (step.as) this.state.outcomes.set(step.as, { matched: 0, changed: 0 })
      return
    }
    const receipt = this.#receipt(step, started, { skipped: false, matched: null, changed: null, rows: [] })
    this.receipts.push(receipt)
    const say = (told: Partial<StepReceipt>) => {
      Object.assign(receipt, told, { durationMs: roundMs(performance.now() - started) })
    }
    try {
      await this.#runAsked(step, say)
    } catch (error) {
      // How long it took is known of a step that was refused as well.
      say({})
      throw error
    }
  }

  async #runAsked(step: PlannedStep, say: (told: Partial<StepReceipt>) => void): Promise<void> {
    if (step.kind === 'require') {
      const holds = await this.#holds(step.judgement)
      say({ matched: holds ? 1 : 0, changed: 0 })
      if (!holds) throw requireBroken(this.plan, step, this.state)
      return
    }
    const counts =
      step.kind === 'load'
        ? await this.#load(step, say)
        : step.kind === 'sql'
          ? await this.#sql(step, say)
          : await this.#write(step, say)
    if (step.as) this.state.outcomes.set(step.as, counts)
  }

  /** The keys of rows that fit and are held by others, and so will be left out. */
  async #leftOut(
    step: PlannedStep,
    mapping: Mapping,
  ): Promise<((keys: RecordValues[]) => { leftOut?: RecordValues[] }) | undefined> {
    if (!step.foundKeys) return undefined
    const { rows } = await this.#query(step, step.foundKeys)
    const all = rows.map((row) => this.#shown(mapping.key, row))
    return (keys) => {
      const taken = new Set(keys.map((key) => printJson(key)))
      return { leftOut: all.filter((key) => !taken.has(printJson(key))).slice(0, RECEIPT_ROWS) }
    }
  }

  async #load(step: Extract<PlannedStep, { kind: 'load' }>, say: (told: Partial<StepReceipt>) => void) {
    const { mapping } = step
    const leftOut = await this.#leftOut(step, mapping)
    const { rows } = await this.#query(step, step.statement)
    const width = mapping.properties.length
    const matched = Number(rows[0]?.[width + 1] ?? 0)
    const keys = rows.map((row) => this.#keyOf(mapping, row))
    say({
      matched,
      changed: 0,
      ...leftOut?.(keys),
      rows: rows.slice(0, RECEIPT_ROWS).map((row, at) => ({
        key: keys[at] ?? {},
        before: this.#shown(mapping.properties, row),
        after: null,
      })),
    })
    this.onRows?.({
      step,
      mapping,
      rows: rows.map((row) => ({ before: row.slice(0, width), after: null, isWritten: false })),
    })
    this.#witness(step, matched, rows, width, rows[0]?.[width + 2] ?? null)
    this.#expect(step, mapping, matched, keys, leftOut)
    const [row] = rows
    if (step.as && row)
      this.state.loaded.set(step.as, { mapping, texts: row.slice(0, width), guard: row[width] ?? null })
    return { matched, changed: 0 }
  }

  async #write(step: PlannedWrite, say: (told: Partial<StepReceipt>) => void) {
    const { mapping } = step
    const leftOut = await this.#leftOut(step, mapping)
    const rows = await this.#writtenRows(step)
    const width = widthBefore(step)
    const flag = (row: (string | null)[] | undefined, name: (typeof WRITE_FLAGS)[number]) =>
      row?.[width + WRITE_FLAGS.indexOf(name)] ?? null
    const [first] = rows
    const matched = Number(flag(first, 'matched') ?? 0)
    const changed = Number(flag(first, 'changed') ?? 0)
    const written = rows.filter((row) => flag(row, 'written') === 't')
    const keys = rows.map((row) => this.#keyOf(mapping, sidesOf(step, row).whole))
    say({
      matched,
      changed,
      ...leftOut?.(keys),
      rows: written.slice(0, RECEIPT_ROWS).map((row) => shownWrite(this.target, step, row, this.isBooked)),
    })
    this.onRows?.({
      step,
      mapping,
      rows: rows.map((row) => {
        const isWritten = flag(row, 'written') === 't'
        return {
          before: sidesOf(step, row).before,
          after: step.kind === 'remove' || !isWritten ? null : afterTexts(step, row, width),
          isWritten,
        }
      }),
    })
    if (width > 0) this.#witness(step, matched, rows, width, flag(first, 'digest'))
    this.#expect(step, mapping, matched, keys, leftOut)
    if (first) {
      if (Number(flag(first, 'refused')) > 0) {
        const { problem, key } = changedMeanwhile(this.plan, this.state, step, first, flag(first, 'guardBefore'))
        this.conflict = { mapping, key, guards: this.binds.guardsOf(step) }
        throw problem
      }
      if (flag(first, 'leavesOut') === 'f') throw leavesNoneOut(step, matched)
      if (Number(flag(first, 'unwritten')) > 0) throw rowNotWritten(mapping, step.kind).with({ step: step.no })
      const rule = flag(first, 'brokenRule')
      if (rule !== null) {
        const after = step.kind === 'remove' ? null : afterTexts(step, first, width)
        throw ruleBroken(mapping, Number(rule), after, 'isByWhere' in step ? keys[0] : undefined).with({
          step: step.no,
        })
      }
      if (step.as && step.kind !== 'remove')
        this.state.loaded.set(step.as, {
          mapping,
          texts: afterTexts(step, first, width),
          guard: flag(first, 'guardAfter') ?? flag(first, 'guardBefore'),
        })
    }
    return { matched, changed }
  }

  /** What a write gives; where it is to add or change and did neither, somebody may have added the record since the statement began. */
  async #writtenRows(step: PlannedWrite): Promise<Rows['rows']> {
    const ask = async () => (await this.#query(step, this.isBooked ? step.run : step.step)).rows
    const rows = await ask()
    if (rows.length > 0 || step.shape.kind !== 'add' || !step.shape.looks) return rows
    const again = await ask()
    if (again.length === 0) throw rowNotWritten(step.mapping, 'add').with({ step: step.no })
    return again
  }

  async #sql(step: Extract<PlannedStep, { kind: 'sql' }>, say: (told: Partial<StepReceipt>) => void) {
    this.statement = sentStatement(step)
    const values = this.binds.of(step.statement, step)
    const { rows, columns, matched, changed } = await runRawStatement(this.session, step, values)
    say({ matched, changed })
    this.onRows?.({
      step,
      mapping: null,
      columns,
      rows: rows.map((before) => ({ before, after: null, isWritten: false })),
    })
    this.#witness(step, matched, [], 0, null)
    if (!this.#fits(step, matched))
      throw unexpected({
        step: step.no,
        what: 'the statement',
        expect: step.expect ?? 'any',
        matched,
        sampleKeys: [],
        isKeyed: false,
        key: {},
      })
    return { matched, changed }
  }

  /**
   * Begins the transaction. What sets it up goes out right behind BEGIN: it writes nothing, so it may.
   *
   * @throws LedgermanProblem rule-broken where a parameter breaks its rule.
   */
  async begin(): Promise<void> {
    const { statement, settings, rules } = this.plan.prologue
    this.statement = statement
    const begun = this.session.query(`begin isolation level ${this.plan.isolation}`)
    const [{ rows }] = await Promise.all([
      this.session.query(statement.text, this.binds.of(statement, null), statement.name),
      begun,
    ])
    const broken = rules.find((_, at) => rows[0]?.[settings + at] !== 't')
    if (!broken) return
    throw new LedgermanProblem('rule-broken', `The parameter :${broken.name} breaks its rule: ${broken.source}.`, {
      parameter: broken.name,
      rule: broken.source,
      by: 'parameter',
      where: `params.${broken.name}`,
    })
  }

  async #holds({ statement }: Judgement): Promise<boolean> {
    const { rows } = await this.#query(this.current, statement)
    return rows[0]?.[0] === 't'
  }

  async #query(step: PlannedStep | null, statement: Statement): Promise<Rows> {
    this.statement = statement
    const isOwn = step !== null && statement === statementOf(step, this.isBooked)
    const sent = (isOwn ? this.#ahead.get(step) : undefined) ?? this.#send(step, statement)
    if (isOwn && this.sendsAhead)
      for (const next of stepsAhead(this.plan.steps, step, this.isBooked)) {
        if (this.#ahead.has(next)) continue
        const going = this.#send(next, statementOf(next, this.isBooked))
        // Where a step before it fails nobody asks for it any more.
        going.catch(() => undefined)
        this.#ahead.set(next, going)
      }
    return sent
  }

  /** Whether all that was sent ahead is over within so many milliseconds, for when nobody asks for it any more. */
  isAheadOver(withinMs: number): Promise<boolean> {
    const over = Promise.allSettled(this.#ahead.values()).then(() => true)
    return Promise.race([over, delay(withinMs).then(() => false)])
  }

  #send(step: PlannedStep | null, statement: Statement): Promise<Rows> {
    if (this.#played) return this.#played()
    // Steps that were sent with the run are made once: preparing them would only fill the session.
    const name = this.plan.name === null ? undefined : statement.name
    return this.session.query(statement.text, this.binds.of(statement, step), name)
  }

  #fits(step: PlannedStep, matched: number): boolean {
    const fixed = this.fixedCounts.get(step.no)
    if (step.expect === null) return fixed === undefined || fixed === matched
    return isExpected(step.expect, matched)
  }

  #expect(
    step: PlannedStep,
    mapping: Mapping,
    matched: number,
    keys: RecordValues[],
    leftOutOf: ((keys: RecordValues[]) => { leftOut?: RecordValues[] }) | undefined,
  ): void {
    if (this.#fits(step, matched)) return
    const { leftOut = [] } = leftOutOf?.(keys) ?? {}
    // The rows are there: that they are held by others is why they were not matched.
    if (leftOut.length > 0 && this.#fits(step, matched + leftOut.length)) throw heldByOthers(step.no, mapping, leftOut)
    const isKeyed = !('isByWhere' in step)
      ? step.kind === 'load' && step.expect === 'one' && 'key' in (this.plan.definition.steps[step.no - 1] ?? {})
      : !step.isByWhere
    throw unexpected({
      step: step.no,
      what: mapping.name,
      expect: step.expect ?? this.fixedCounts.get(step.no) ?? 'any',
      matched,
      sampleKeys: keys.slice(0, 5),
      isKeyed,
      key: this.statement ? askedKey(this.statement, this.binds.of(this.statement, step), mapping) : {},
      keyNames: mapping.key.map(({ name }) => name),
    })
  }

  #witness(step: PlannedStep, matched: number, rows: (string | null)[][], width: number, digest: string | null): void {
    if (!this.isWitnessed) return
    const mapping = 'mapping' in step ? step.mapping : null
    this.evidence.push({
      step: step.no,
      matched,
      rows:
        matched > EVIDENCE_ROWS || !mapping
          ? null
          : rows.map((row) => [
              mapping.key
                .map((property) => showable(this.target, property, row[mapping.properties.indexOf(property)] ?? null))
                .join(', ') || imageDigest(row.slice(0, width)),
              imageDigest(row.slice(0, width)),
            ]),
      digest,
    })
  }

  #keyOf(mapping: Mapping, row: readonly (string | null)[]): RecordValues {
    return this.#shown(
      mapping.key,
      mapping.key.map((property) => row[mapping.properties.indexOf(property)] ?? null),
    )
  }

  #shown(properties: readonly Property[], texts: readonly (string | null)[]): RecordValues {
    return shownRecord(
      properties,
      properties.map((property, at) => showable(this.target, property, texts[at] ?? null)),
    )
  }

  #receipt(
    step: PlannedStep,
    started: number,
    told: Pick<StepReceipt, 'skipped' | 'matched' | 'changed' | 'rows'>,
  ): StepReceipt {
    const statement = shownStatement(step)
    const values = told.skipped
      ? []
      : showableBinds(statement.slots, this.binds.of(statement, step), this.target.digestKey)
    return {
      no: step.no,
      kind: step.kind,
      mapping: 'mapping' in step ? step.mapping.name : null,
      as: step.as,
      ...toShownStatement(statement, told.skipped ? [] : toBindReceipts(statement.slots, values)),
      expected: String(step.expect ?? this.fixedCounts.get(step.no) ?? 'not stated'),
      durationMs: roundMs(performance.now() - started),
      ...told,
    }
  }
}
