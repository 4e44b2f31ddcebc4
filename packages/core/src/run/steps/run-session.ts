import { isCancelled } from '../../sessions/database-error.js'
import { DRIVER_PATIENCE_MS, type Session } from '../../sessions/session-pool.js'
import type { Turn } from '../../sessions/sharing/turn-queue.js'
import { LockWatch } from '../../sessions/lock-watch.js'
import { callerLeft, Deadline } from './deadline.js'
import type { PlanRun } from './plan-run.js'

/** The session of a run: watched while it waits, cancelled when its time is over, handed back clean or destroyed. */
export class RunSession {
  readonly watch: LockWatch
  readonly deadline: Deadline
  /** Whether nothing of the run is left in it. */
  isClean = false

  private constructor(
    readonly run: PlanRun,
    readonly session: Session,
    turn: Turn,
  ) {
    const { target, request, lockWaitMs, timeLimitMs } = run
    session.limitTo(timeLimitMs + DRIVER_PATIENCE_MS)
    this.watch = new LockWatch(target, session.pid, lockWaitMs, (holders) => {
      turn.tellHolders(holders)
      request.onWait?.(holders)
    })
    this.deadline = new Deadline(target, session, run.started + timeLimitMs - performance.now(), request.signal)
  }

  /** @throws LedgermanProblem target-unavailable, target-denied or too-many-requests where none can be had; cancelled where the caller has gone */
  static async open(run: PlanRun, turn: Turn): Promise<RunSession> {
    const session = await run.target.session()
    if (!run.request.signal?.aborted) return new RunSession(run, session, turn)
    session.release()
    throw callerLeft()
  }

  /** Whether it was ended because it had waited for a lock as long as it may. */
  isOverdue(error: unknown): boolean {
    return this.watch.hasCancelled && isCancelled(error)
  }

  isOutOfTime(error: unknown): boolean {
    return this.deadline.hasFired || isCancelled(error)
  }

  /** Whether the session is out of its transaction. */
  rollBack(): Promise<boolean> {
    return this.session.query('rollback').then(
      () => true,
      () => false,
    )
  }

  async close(): Promise<void> {
    this.watch.end()
    this.deadline.end()
    // A raw statement may leave anything behind in a session, and a cancel may come late.
    const isSuspect = this.deadline.hasFired || this.run.plan.steps.some((step) => step.kind === 'sql')
    await Promise.all([this.deadline.settled, this.watch.settled])
    this.session.release(!this.isClean || isSuspect || this.watch.hasCancelled)
  }
}
