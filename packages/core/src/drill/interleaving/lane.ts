import { isProblem, type RecordValues } from '@ledgerman/contract'
import { isWrite, type PlannedStep } from '../../plan/plan.js'
import type { Attempt } from '../../run/steps/attempt.js'
import type { SeenRows } from '../../run/steps/seen-rows.js'
import type { Session } from '../../sessions/session-pool.js'
import type { ScratchDatabase } from '../scratch/scratch-database.js'
import { attemptOf, type Drilled } from '../scratch/observe-run.js'
import { isDatabaseError } from '../../sessions/database-error.js'
import { shownRecord } from '../../mapping/record-row.js'
import { BY_CHANCE, type DrillClock } from '../clock.js'
import type { HistoryEvent, SeenRow } from './history.js'
import { historyEvent } from './history-event.js'
import { aMoment, unitsOf, type MissingRecord, type Turning } from './turns.js'
import { isByChance, type Volatile } from '../volatile.js'

/** One run in a schedule: its session, how far it is, and what it did. */
export class Lane implements Turning {
  readonly #attempt: Attempt
  readonly #units: readonly (readonly PlannedStep[])[]
  #at = 0
  #waiting: Promise<void> | null = null
  #isWaiting = false
  #failure: unknown
  /** Keys that it looked for in vain. */
  readonly missing: MissingRecord[] = []
  #seen: SeenRow[] = []
  isOver = false
  /** The code of its refusal; null while it goes on, and where it was committed. */
  refusal: string | null = null

  constructor(
    readonly run: number,
    readonly scratch: ScratchDatabase,
    readonly session: Session,
    readonly drilled: Drilled,
    readonly volatile: Volatile,
    readonly clock: DrillClock,
    readonly events: HistoryEvent[],
  ) {
    this.#attempt = attemptOf(scratch.target, drilled, session)
    this.#attempt.onRows = (rows) => this.#see(rows)
    this.#units = unitsOf(drilled)
  }

  get isWaiting(): boolean {
    return this.#isWaiting
  }

  /** Takes its turn: the next statement, or the commit. Resolves when that is done, or waits for somebody else's lock. */
  async turn(): Promise<void> {
    // Let go on by somebody else's end, it may be in the middle of its statements: they are finished before the next.
    await this.settle()
    if (this.isOver || this.#waiting) return
    const unit = this.#units[this.#at++]
    const done = unit ? this.#runUnit(unit) : this.#commit()
    this.#waiting = done
      .catch((error: unknown) => (this.#failure = error))
      .then(() => {
        this.#waiting = null
      })
    await this.settle()
  }

  /** Resolves when the statement that runs is done, or is known by the server to wait for a lock. */
  async settle(): Promise<void> {
    while (this.#waiting) {
      const isDone = await Promise.race([this.#waiting.then(() => true), aMoment().then(() => false)])
      if (isDone) break
      if (!(await this.scratch.blocked([this.session.pid])).has(this.session.pid)) continue
      if (!this.#isWaiting && this.#isRunning()) {
        this.#isWaiting = true
        const steps = this.#units[this.#at - 1]
        this.#say(steps?.[0] ?? null, 'waits', [], null)
      }
      return
    }
    this.#assertSound()
  }

  /** @throws what went wrong with the drill itself, such as a session that broke */
  #assertSound(): void {
    if (this.#failure !== undefined) throw this.#failure
  }

  /** It may have ended while somebody was asked. */
  #isRunning(): boolean {
    return this.#waiting !== null
  }

  /** Resolves when it is its own turn again, or it is over. */
  async untilDone(): Promise<void> {
    await this.#waiting
    this.#assertSound()
  }

  async #runUnit(steps: readonly PlannedStep[]): Promise<void> {
    try {
      // The transaction begins with its first statement, since that is when it takes its view of the rows.
      if (this.#at === 1) await this.#attempt.begin()
      for (const step of steps) {
        this.#seen = []
        await this.#attempt.runStep(step)
        const matched = this.#attempt.receipts.find(({ no }) => no === step.no)?.matched ?? null
        this.#say(step, this.#isWaiting ? 'went on' : 'ran', this.#seen, matched)
        this.#isWaiting = false
      }
    } catch (error) {
      await this.#refuse(error)
    }
  }

  async #commit(): Promise<void> {
    // Said before it is known: others may be told that they go on before this session is told that it is over.
    const event = this.#say(null, 'ran', [], null)
    try {
      await this.session.query('commit')
      this.isOver = true
    } catch (error) {
      this.events.splice(this.events.indexOf(event), 1)
      await this.#refuse(error)
    }
    this.#isWaiting = false
  }

  async #refuse(error: unknown): Promise<void> {
    const { current, statement } = this.#attempt
    const explained = this.scratch.target.explain(error, {
      ...(current && 'mapping' in current ? { mapping: current.mapping } : {}),
      ...(statement ? { slots: statement.slots, statement } : {}),
    })
    if (isProblem(explained, 'no-such-record') && current && 'mapping' in current)
      this.missing.push({ mapping: current.mapping, key: (explained.facts['key'] ?? {}) as RecordValues })
    const isDeadlock = isDatabaseError(error) && error.code === '40P01'
    this.refusal = isDeadlock ? 'deadlock' : isProblem(explained) ? explained.code : 'internal'
    const steps = this.#units[this.#at - 1]
    this.#say(steps ? current : null, 'refused', [], null, isProblem(explained) ? explained.detail : String(error))
    await this.session.query('rollback')
    this.isOver = true
    this.#isWaiting = false
  }

  #say(
    step: PlannedStep | null,
    action: HistoryEvent['action'],
    rows: SeenRow[],
    matched: number | null,
    why?: string,
  ): HistoryEvent {
    const event: HistoryEvent = {
      ...historyEvent(this.run, this.drilled, step, action, why),
      isByCondition: step !== null && isByCondition(step, this.drilled),
      rows,
      matched,
    }
    this.events.push(event)
    return event
  }

  #see({ step, mapping, columns = [], rows }: SeenRows): void {
    if (!mapping) {
      // What chance or a clock gives is nobody's doing.
      if (step.kind === 'sql' && BY_CHANCE.test(step.source)) return
      this.#seen.push(
        ...rows.map(({ before }, at) => ({
          item: `result ${step.no} ${at + 1}`,
          counterpart: `result ${step.no} ${at + 1}`,
          label: `the result of step ${step.no}`,
          mapping: '',
          key: {},
          before: Object.fromEntries(
            (before ?? []).map((text, at) => [columnName(columns, at), this.clock.without(text)]),
          ),
          after: null,
          isWritten: false,
          blind: [],
        })),
      )
      return
    }
    const hidden = this.volatile.get(mapping.table.path)
    const shown = mapping.properties.filter(({ column }) => !hidden?.has(column.name) && !isByChance(column))
    const values = (texts: readonly (string | null)[] | null): RecordValues | null =>
      texts &&
      Object.fromEntries(
        Object.entries(
          shownRecord(
            shown,
            shown.map((property) => texts[mapping.properties.indexOf(property)] ?? null),
          ),
        ).map(([name, value]) => [name, this.clock.without(value)]),
      )
    for (const { before, after, isWritten } of rows) {
      const texts = before ?? after ?? []
      const keyTexts = mapping.key.map((property) => texts[mapping.properties.indexOf(property)] ?? null)
      // Of a row that was added meanwhile a number by chance tells nothing.
      const isNumberedNow =
        mapping.key.some(({ column }) => isByChance(column)) && this.scratch.isNew(mapping.table, keyTexts)
      const item = `${mapping.table.path} ${keyTexts.join(', ')}`
      this.#seen.push({
        item,
        counterpart: isNumberedNow ? `${mapping.table.path} new` : item,
        label: `${mapping.name} ${keyTexts.join(', ')}`,
        mapping: mapping.name,
        key: shownRecord(mapping.key, keyTexts),
        before: values(before),
        after: values(after),
        isWritten,
        blind: isWrite(step) ? blindOf(step, this.drilled) : [],
      })
    }
  }
}

/** What a column of a result is called: by its place where nothing, or another one too, has its name. */
function columnName(columns: readonly string[], at: number): string {
  const name = columns[at]
  const isOwn = name !== undefined && name !== '?column?' && columns.indexOf(name) === columns.lastIndexOf(name)
  return isOwn ? name : `column ${at + 1}`
}

function isByCondition(step: PlannedStep, { plan }: Drilled): boolean {
  const definition = plan.definition.steps[step.no - 1] ?? {}
  return 'where' in definition || (step.kind === 'load' && !('key' in definition))
}

/** The properties that the step sets to values that do not come from the row as it is when it is written. */
function blindOf(step: PlannedStep, { plan }: Drilled): string[] {
  const { values = {}, compute = {} } = (plan.definition.steps[step.no - 1] ?? {}) as {
    values?: object
    compute?: Record<string, unknown>
  }
  const isOwn = (property: string, expression: unknown) =>
    new RegExp(`(?<![.\\p{L}\\p{N}_:])${property}(?![\\p{L}\\p{N}_])`, 'u').test(String(expression))
  const computed = Object.entries(compute).filter(([property, expression]) => !isOwn(property, expression))
  return [...Object.keys(values), ...computed.map(([property]) => property)]
}
