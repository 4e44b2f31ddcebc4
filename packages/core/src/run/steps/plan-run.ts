import { setTimeout as delay } from 'node:timers/promises'
import type { LockHolder } from '@ledgerman/contract'
import { newEntryId } from '../../book/entry-id.js'
import type { LostCommit } from '../../book/settle.js'
import type { Plan } from '../../plan/plan.js'
import { roundingsOf, type Roundings } from '../../plan/roundings.js'
import type { Session } from '../../sessions/session-pool.js'
import type { Target } from '../../target/target.js'
import { Attempt } from './attempt.js'
import type { RunRequest } from './run-request.js'

const LONGEST_BACKOFF_MS = 1_000

/** A plan on its way through the lanes: what is asked, and what the lanes before have found out. */
export class PlanRun {
  readonly id = newEntryId()
  readonly startedAt = new Date().toISOString()
  readonly started = performance.now()
  readonly isCommit: boolean
  /** The revisions of the mappings it works with. */
  readonly definitions: Readonly<Record<string, number>>
  readonly lockWaitMs: number
  readonly timeLimitMs: number
  attempts = 1
  /** The last attempt step by step: what the receipt of a refusal tells. */
  attempt: Attempt | null = null
  /** Who held a lock that was not granted in time: the whole wait is behind the run then. */
  waitedFor: readonly LockHolder[] | undefined
  #roundings: Roundings | undefined

  constructor(
    readonly target: Target,
    readonly plan: Plan,
    readonly request: RunRequest,
    readonly params: ReadonlyMap<string, string | null>,
  ) {
    this.definitions = Object.fromEntries([...plan.mappings].map(([name, { revision }]) => [name, revision]))
    this.isCommit = request.mode === 'commit'
    this.lockWaitMs = plan.lockWaitMs ?? target.limits.lockWaitMs
    this.timeLimitMs = plan.timeLimitMs ?? target.limits.timeLimitMs
  }

  get lost(): LostCommit {
    const { actor, note } = this.request
    return { id: this.id, actor, note: note ?? null }
  }

  /** What it may round: its entry and its receipt say so. */
  get roundings(): Roundings {
    return (this.#roundings ??= roundingsOf(this.plan, this.request.params))
  }

  newAttempt(session: Session): Attempt {
    const { target, plan, request, params, isCommit } = this
    const state = {
      entry: this.id,
      actor: request.actor,
      params,
      given: request.params,
      loaded: new Map(),
      outcomes: new Map(),
    }
    const fixed = new Map((request.rehearsed ?? []).map(({ step, matched }) => [step, matched]))
    const isWitnessed = !isCommit || request.rehearsed !== undefined
    return new Attempt(target, plan, state, session, isCommit, isWitnessed, fixed)
  }

  /** Waits a moment before the next attempt: full jitter, so that those who met do not meet again at once. */
  async backOff(): Promise<void> {
    this.target.activity.retried?.()
    await delay(Math.random() * Math.min(LONGEST_BACKOFF_MS, 10 * 2 ** this.attempts))
    this.attempts++
  }
}
