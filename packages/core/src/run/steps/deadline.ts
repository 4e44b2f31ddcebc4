import { LedgermanProblem } from '@ledgerman/contract'
import type { Session } from '../../sessions/session-pool.js'
import type { Target } from '../../target/target.js'

/** Cancels a run in the database when its time is over, or its caller gone. */
export class Deadline {
  hasFired = false
  isCallerGone = false
  settled: Promise<unknown> = Promise.resolve()
  readonly #timer: NodeJS.Timeout
  readonly #onAbort = () => this.#fire(true)

  constructor(
    readonly target: Target,
    readonly session: Session,
    inMs: number,
    readonly signal: AbortSignal | undefined,
  ) {
    this.#timer = setTimeout(() => this.#fire(false), Math.max(1, inMs))
    signal?.addEventListener('abort', this.#onAbort, { once: true })
  }

  end(): void {
    clearTimeout(this.#timer)
    this.signal?.removeEventListener('abort', this.#onAbort)
  }

  #fire(isCallerGone: boolean): void {
    if (this.hasFired) return
    this.hasFired = true
    this.isCallerGone = isCallerGone
    this.settled = this.target.giveUp(this.session)
  }
}

/** The problem of a run whose time was over. */
export function timeLimit(timeLimitMs: number, step: number | undefined, cause: unknown): LedgermanProblem {
  return new LedgermanProblem(
    'time-limit',
    `The run took longer than ${timeLimitMs / 1000} s${step === undefined ? '' : `, in step ${step}`}, and was stopped. Nothing was changed.`,
    { timeLimitMs, step },
    { cause },
  )
}

/** The problem of a run whose caller went away before anything of it was sent. */
export function callerLeft(): LedgermanProblem {
  return new LedgermanProblem('cancelled', 'The caller went away before the run began. Nothing was changed.')
}
