import {
  isProblem,
  LedgermanProblem,
  printJson,
  toProblemDocument,
  type DrilledRun,
  type Walk,
} from '@ledgerman/contract'
import { isWrite } from '../../plan/plan.js'
import type { Attempt } from '../../run/steps/attempt.js'
import type { SeenRows } from '../../run/steps/seen-rows.js'
import type { Session } from '../../sessions/session-pool.js'
import { shownRecord } from '../../mapping/record-row.js'
import { drilledPlan, type Definitions } from '../drilled-plan.js'
import { describeStep } from '../describe-step.js'
import { attemptOf, type Drilled } from '../scratch/observe-run.js'
import { ScratchDatabase, type ScratchSource } from '../scratch/scratch-database.js'
import { toRowDifference } from '../scratch/snapshot.js'

type WalkState = Omit<Walk, 'id'>

/** A run that somebody goes through step by step in the scratch database, looking at rows and locks after each. */
export class WalkThrough {
  readonly #attempt: Attempt
  readonly #locked = new Map<string, Record<string, unknown>[]>()
  #at = 0
  #turn: Promise<void> = Promise.resolve()
  #state: Walk['state'] = 'going'
  #outcome: Walk['outcome'] = null
  #problem: Walk['problem'] = null

  private constructor(
    readonly scratch: ScratchDatabase,
    readonly drilled: Drilled,
    readonly session: Session,
  ) {
    this.#attempt = attemptOf(scratch.target, drilled, session)
    this.#attempt.onRows = (rows) => this.#noteLocks(rows)
  }

  /** @throws LedgermanProblem scratch-unavailable, definition-invalid */
  static async begin(source: ScratchSource, run: DrilledRun, definitions: Definitions): Promise<WalkThrough> {
    const observing = await drilledPlan(source.target, run, definitions, { observes: true })
    const scratch = await ScratchDatabase.build(source, [observing])
    try {
      const drilled = await drilledPlan(scratch.target, run, definitions)
      return new WalkThrough(scratch, drilled, await scratch.target.session())
    } catch (error) {
      const told = await scratch.explainLost(error)
      await scratch.drop()
      throw told
    }
  }

  /** Runs the next step, or after the last the commit. Who asks while one runs waits for it, and has the one after it. */
  next(): Promise<void> {
    const next = this.#turn.then(() => this.#next())
    this.#turn = next.catch(() => undefined)
    return next
  }

  async #next(): Promise<void> {
    if (this.#state !== 'going') return
    const { plan } = this.drilled
    const step = plan.steps[this.#at]
    try {
      if (this.#at === 0) await this.#attempt.begin()
      if (step) await this.#attempt.runStep(step)
      else {
        const { command } = await this.session.query('commit')
        if (command !== 'COMMIT') throw new LedgermanProblem('internal', `COMMIT was answered with ${command}.`)
        this.#state = 'done'
        this.#outcome = 'committed'
      }
      this.#at++
    } catch (error) {
      const lost = await this.scratch.explainLost(error)
      if (lost !== error) throw lost
      await this.session.query('rollback').catch(() => undefined)
      const { current, statement } = this.#attempt
      const explained = this.scratch.target.explain(error, {
        ...(current && 'mapping' in current ? { mapping: current.mapping } : {}),
        ...(statement ? { slots: statement.slots, statement } : {}),
      })
      if (!isProblem(explained)) throw explained
      this.#state = 'refused'
      this.#outcome = 'refused'
      this.#problem = toProblemDocument(explained.code, explained.detail, explained.facts) as unknown as Record<
        string,
        unknown
      >
    }
  }

  /** @throws LedgermanProblem scratch-unavailable */
  async look(): Promise<WalkState> {
    try {
      return await this.#look()
    } catch (error) {
      throw await this.scratch.explainLost(error)
    }
  }

  async #look(): Promise<WalkState> {
    const { plan } = this.drilled
    const isOpen = this.#state === 'going' && this.#at > 0
    const differing = isOpen ? await this.scratch.differing(this.session) : await this.scratch.differing()
    return {
      state: this.#state,
      outcome: this.#outcome,
      steps: plan.steps.map((step) => ({ no: step.no, kind: step.kind, what: describeStep(step, this.drilled) })),
      at: this.#at,
      receipt: this.#attempt.receipts,
      pending: differing.map(toRowDifference),
      locks: isOpen ? await this.#locks() : [],
      problem: this.#problem,
      scratch: this.scratch.info,
    }
  }

  async stop(): Promise<void> {
    this.session.release(true)
    await this.scratch.drop()
  }

  /** Locks of tables as the server lists them, and of rows as the steps took them: those are in the rows themselves. */
  async #locks(): Promise<Walk['locks']> {
    const { rows } = await this.scratch.asKeeper(
      `select distinct c.oid::regclass::text, l.mode from pg_locks l join pg_class c on c.oid = l.relation
        where l.pid = $1::integer and l.locktype = 'relation' and c.relkind in ('r', 'p') and l.mode <> 'AccessShareLock'
          and c.relnamespace not in ('pg_catalog'::regnamespace) order by 1, 2`,
      [String(this.session.pid)],
    )
    const tables = rows.map(([table = null, mode]) => ({ lock: 'table', table, mode: mode ?? '', rows: [] }))
    const locked = [...this.#locked].map(([place, keys]) => {
      const [table = '', mode = ''] = place.split('\0')
      return { lock: 'row', table, mode, rows: keys }
    })
    return [...locked, ...tables]
  }

  #noteLocks({ step, mapping, rows }: SeenRows): void {
    if (!mapping) return
    const definition = this.drilled.plan.definition.steps[step.no - 1] ?? {}
    const lock = isWrite(step) ? 'change' : 'lock' in definition ? definition.lock : undefined
    if (lock === undefined || lock === 'none') return
    const place = `${mapping.name}\0${lock === 'share' ? 'for share' : step.kind === 'remove' ? 'for update' : 'for no key update'}`
    const known = this.#locked.get(place) ?? []
    for (const { before, after } of rows) {
      const texts = before ?? after ?? []
      const key = shownRecord(
        mapping.key,
        mapping.key.map((property) => texts[mapping.properties.indexOf(property)] ?? null),
      )
      if (!known.some((each) => printJson(each) === printJson(key))) known.push(key)
    }
    this.#locked.set(place, known)
  }
}
