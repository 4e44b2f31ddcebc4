import { LedgermanProblem } from '@ledgerman/contract'
import { stepStatementId, type BookedRun } from '../../book/book-run.js'
import { buildSharedRun } from '../../plan/one-statement/build-shared-run.js'
import { buildOneStatement } from '../../plan/one-statement/build-one-statement.js'
import { COUNTS_A_STEP, isLateBind } from '../../plan/one-statement/step-sql.js'
import { shownStatement, type Plan, type PlannedStep } from '../../plan/plan.js'
import { bindValues, type Slot, type SlotSource, type Statement } from '../../statement/statement.js'
import type { Rows } from '../../sessions/queryable.js'
import type { SharedStatement } from '../../sessions/sharing/shared-statement.js'
import { assertSeesTables } from '../../sessions/rewritten-tables.js'
import type { Session } from '../../sessions/session-pool.js'
import type { Target } from '../../target/target.js'
import { showableBinds } from '../../statement/shown-statement.js'
import type { Attempt } from './attempt.js'

/** After how many runs at most a plan that had to be run step by step again is tried as one statement again. */
const LONGEST_PAUSE = 64

/** A plan as one statement, and how that went lately. */
export class AsOne {
  static readonly #known = new WeakMap<Plan, AsOne | null>()
  #pause = 0
  #next = 1
  /** Null where it cannot be shared; undefined where nobody asked yet. */
  #shared: Statement | null | undefined

  readonly #steps: readonly StepTemplate[]

  private constructor(
    readonly statement: Statement,
    readonly plan: Plan,
  ) {
    this.#steps = plan.steps.map(toStepTemplate)
  }

  /** Undefined where the plan cannot be one statement, or was refused as one too often lately: what is refused is run twice. */
  static of(plan: Plan): AsOne | undefined {
    let known = this.#known.get(plan)
    if (known === undefined) {
      // Steps that were sent with their run are prepared by nobody: planned each time, a long statement costs more than it saves.
      const statement = plan.name === null ? undefined : buildOneStatement(plan)
      this.#known.set(plan, (known = statement ? new AsOne(statement, plan) : null))
    }
    if (!known || known.#pause-- > 0) return undefined
    return known
  }

  wentWell(): void {
    this.#pause = 0
    this.#next = 1
  }

  wasRefused(): void {
    this.#pause = this.#next - 1
    this.#next = Math.min(LONGEST_PAUSE, this.#next * 2)
  }

  /**
   * Sends the statement, and gives its rows once it is committed. Where it needs settings of its own it goes between BEGIN and COMMIT:
   * behind a BEGIN that was answered, since behind one that was cancelled it would be a transaction of its own.
   */
  async run(session: Session, attempt: Attempt, header: BookedRun, note: string | null): Promise<(string | null)[][]> {
    const { plan, target } = attempt
    const { statement } = this
    const values = this.#bindsOf(statement, attempt, header, note)
    attempt.statement = statement
    if (!needsTransaction(target, plan)) return (await session.query(statement.text, values, statement.name)).rows
    const { statement: prologue } = plan.prologue
    await allAnswered([
      session.query(`begin isolation level ${plan.isolation}`),
      session.query(prologue.text, attempt.binds.of(prologue, null), prologue.name),
    ])
    const sent = session.query(statement.text, values, statement.name)
    // What may be blind is committed only when it is known that it was not.
    if (plan.isolation !== 'read committed')
      await allAnswered<Rows | void>([sent, assertSeesTables(session, plan.isolation)]).catch(
        async (error: unknown) => {
          await session.query('rollback').catch(() => undefined)
          throw error
        },
      )
    const [written, committed] = await allAnswered([sent, session.query('commit')])
    if (committed?.command !== 'COMMIT')
      throw new LedgermanProblem('internal', `COMMIT was answered with ${committed?.command}.`)
    return written?.rows ?? []
  }

  /**
   * Runs it in one statement with others of the same plan that are asked for at the same time.
   *
   * @returns its rows as `run` gives them; none where it was not answered
   */
  async share(
    attempt: Attempt,
    header: BookedRun,
    note: string | null,
    onStart: (pid: number) => void,
  ): Promise<(string | null)[][]> {
    const statement = this.#sharedStatement(attempt)
    if (!statement) return []
    const values = () => this.#bindsOf(statement, attempt, header, note)
    return this.#sharedBy(attempt, statement).ask({ values, subject: null, alone: noRows, onStart })
  }

  /**
   * Runs it after others of the same plan in one transaction, while runs of it meet at the same rows too often to share a statement.
   *
   * @returns its rows as `run` gives them; none where it has to be run alone
   */
  async takeTurns(attempt: Attempt, header: BookedRun, note: string | null): Promise<(string | null)[][]> {
    const statement = this.#sharedStatement(attempt)
    if (!statement || !this.#sharedBy(attempt, statement).isPaused) return []
    const values = () => this.#bindsOf(this.statement, attempt, header, note)
    return attempt.target.inTurn(this.statement).ask({ values, subject: null, alone: noRows })
  }

  /** The statement of all who run it at the same time; undefined where it can never be shared. */
  #sharedStatement({ target, plan }: Attempt): Statement | undefined {
    if (this.#shared === undefined) this.#shared = buildSharedRun(plan) ?? null
    return this.#shared === null || needsTransaction(target, plan) ? undefined : this.#shared
  }

  #sharedBy({ target }: Attempt, statement: Statement): SharedStatement {
    return target.shared(statement, { answers: (rows) => rows.length > 0, isRead: false })
  }

  #bindsOf(statement: Statement, attempt: Attempt, header: BookedRun, note: string | null): (string | null)[] {
    return bindValues(statement, (source, slot) => {
      const own = this.#valueOf(source, attempt, header, note)
      if (own !== undefined) return own
      const step = slot.step === undefined ? undefined : this.plan.steps[slot.step - 1]
      return attempt.binds.valueOf(source, slot, step ?? null)
    })
  }

  /** What the book says of the run; undefined for a slot that a step's own statement could have. */
  #valueOf(source: SlotSource, attempt: Attempt, header: BookedRun, note: string | null): string | null | undefined {
    if (source.from === 'entry' && source.field === 'note') return note
    if (source.from !== 'run') return undefined
    return source.field === 'run' ? runTemplate(header) : stepsTemplate(attempt, this.#steps)
  }
}

/** The answers, once all of them are there. @throws the first error */
async function allAnswered<T>(sent: readonly Promise<T>[]): Promise<T[]> {
  const settled = await Promise.allSettled(sent)
  const failed = settled.find(({ status }) => status === 'rejected')
  if (failed?.status === 'rejected') throw failed.reason
  return Promise.all(sent)
}

/** What a run gets together with others that has to be done alone. */
function noRows(): Promise<(string | null)[][]> {
  return Promise.resolve([])
}

/** Whether a session's own settings are not those of the run, or a policy has to know the actor before any row is read. */
function needsTransaction({ limits }: Target, plan: Plan): boolean {
  return (
    plan.isolation !== 'read committed' ||
    (plan.lockWaitMs ?? limits.lockWaitMs) !== limits.lockWaitMs ||
    (plan.timeLimitMs ?? limits.timeLimitMs) !== limits.timeLimitMs ||
    plan.steps.some((step) => 'mapping' in step && step.mapping.table.rowSecurity)
  )
}

/** The run as the book has it, with places for its duration and whether it can be reversed: `format` of PostgreSQL fills them. */
function runTemplate(run: BookedRun): string {
  const { durationMs: _duration, reversible: _reversible, ...known } = run
  return `${json(known).slice(0, -1)},"durationMs":%1$s,"reversible":"%2$s"}`
}

/** The steps as the book has them, with places for their counts, and then for the binds that earlier steps give. */
function stepsTemplate(attempt: Attempt, parts: readonly StepTemplate[]): string {
  const { plan, target } = attempt
  let late = COUNTS_A_STEP * plan.steps.length
  const steps = parts.map(({ step, before, after }) => {
    const statement = shownStatement(step)
    const shown = showableBinds(statement.slots, attempt.binds.of(statement, step), target.digestKey)
    const binds = shown.map((bind, at) => (isLateBind(step, statement.slots[at] as Slot) ? `%${++late}$s` : json(bind)))
    return `${before}${binds.join()}${after}`
  })
  return `[${steps.join()}]`
}

/** What does not differ from one run to the next: a step as the book has it, before its binds and after them. */
interface StepTemplate {
  step: PlannedStep
  before: string
  after: string
}

function toStepTemplate(step: PlannedStep): StepTemplate {
  const first = COUNTS_A_STEP * (step.no - 1) + 1
  const known = { no: step.no, name: step.as, statement: stepStatementId(step), expected: String(step.expect) }
  return {
    step,
    before: `${json(known).slice(0, -1)},"binds":[`,
    after: `],"matched":%${first}$s,"changed":%${first + 1}$s,"skipped":%${first + 2}$s,"duration_ms":%${first + 3}$s}`,
  }
}

/** JSON in which no percent sign is taken for a place. */
function json(value: unknown): string {
  const text = JSON.stringify(value)
  return text.includes('%') ? text.replaceAll('%', '%%') : text
}
