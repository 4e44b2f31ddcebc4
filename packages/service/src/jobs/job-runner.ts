import { randomUUID } from 'node:crypto'
import { EventEmitter } from 'node:events'
import { setTimeout as delay } from 'node:timers/promises'
import { isProblem, LedgermanProblem, toProblemDocument, type ProblemDocument } from '@ledgerman/contract'
import { BulkRefused } from '@ledgerman/core'
import type { Logger } from 'pino'
import type { ServiceConfig } from '../config/service-config.js'
import type { RehearsalStore } from '../home/rehearsal-store.js'
import type { TargetRegistry } from '../targets/target-registry.js'
import type { ClaimedJob } from './job-row.js'
import { LEASE_MS, type JobStore } from './job-store.js'
import { ProgressMeter } from './progress-meter.js'
import { runJob } from './run-job.js'
import { settleJob } from './settle-job.js'

/** How often it is looked for jobs that wait, or whose runner is gone, in milliseconds. */
const LOOK_EVERY_MS = 1_000
const RENEW_EVERY_MS = 1_000

/** How often a job is tried again whose target cannot be reached, and how long is waited between, in milliseconds. */
const MOST_FAILURES = 30
/** The same of one whose rows are locked, perhaps by whoever ran it before: PostgreSQL ends a transaction that nobody goes on with after 15 s. */
const MOST_LOCKED = 6
const LONGEST_PAUSE_MS = 5_000
const PAUSE_MS = 100

const SWEEP_EVERY_MS = 10 * 60_000

interface Running {
  abort: AbortController
  done: Promise<void>
}

/** Runs jobs: takes those that wait, one after the other, as many at once as it may. */
export class JobRunner {
  readonly #instance = randomUUID()
  readonly #running = new Map<string, Running>()
  #timer: NodeJS.Timeout | undefined
  #sweeping: NodeJS.Timeout | undefined
  #isStopped = false
  #looking: Promise<void> | undefined
  #isAskedAgain = false
  /** Told, by its id, of a job that this service has brought to its end: whoever follows it need not ask for it again and again. */
  readonly ends = new EventEmitter().setMaxListeners(0)

  constructor(
    readonly jobs: JobStore,
    readonly targets: TargetRegistry,
    readonly rehearsals: RehearsalStore,
    readonly config: ServiceConfig['jobs'],
    readonly log: Logger,
  ) {}

  start(): void {
    this.#timer = setInterval(() => this.look(), LOOK_EVERY_MS).unref()
    const sweep = () => void this.jobs.sweep(this.config.keepHours).catch(() => undefined)
    this.#sweeping = setInterval(sweep, SWEEP_EVERY_MS).unref()
    this.look()
  }

  get count(): number {
    return this.#running.size
  }

  /** Looks at once whether there is something to do. */
  look(): void {
    if (this.#looking) {
      this.#isAskedAgain = true
      return
    }
    this.#looking = this.#take()
      .catch((error: unknown) => this.log.debug({ error: String(error) }, 'jobs could not be looked for'))
      .finally(() => {
        this.#looking = undefined
        if (this.#isAskedAgain) {
          this.#isAskedAgain = false
          this.look()
        }
      })
  }

  /** Ends a job that this service runs; another's is told by its runner. */
  cancel(id: string): void {
    this.#running.get(id)?.abort.abort(CANCELLED)
  }

  /** Takes no more jobs; those that run are rolled back and given back, so that another service goes on with them. */
  async stop(): Promise<void> {
    this.#isStopped = true
    clearInterval(this.#timer)
    clearInterval(this.#sweeping)
    await this.#looking
    for (const { abort } of this.#running.values()) abort.abort(STOPPED)
    await Promise.all([...this.#running.values()].map(({ done }) => done))
  }

  async #take(): Promise<void> {
    while (!this.#isStopped && this.#running.size < this.config.atOnce) {
      const askedAt = performance.now()
      const running = [...this.#running.keys()]
      const job = await this.jobs.claim(this.#instance, this.targets.names(), this.config.perTarget, running)
      if (!job) return
      const abort = new AbortController()
      const done = this.#run(job, abort, askedAt).finally(() => {
        this.#running.delete(job.id)
        if (!this.#isStopped) this.look()
      })
      this.#running.set(job.id, { abort, done })
    }
  }

  async #run(job: ClaimedJob, abort: AbortController, heldSince: number): Promise<void> {
    const progress = new ProgressMeter(job)
    const renewing = this.#keepRenewing(job, abort, progress, heldSince)
    this.log.info({ job: job.id, target: job.target, mapping: job.mapping, kind: job.request.kind }, 'job begun')
    try {
      const { jobs, targets, rehearsals, config } = this
      const { isHeld } = renewing
      const parts = { jobs, targets, rehearsals, instance: this.#instance, timeLimitMs: config.timeLimitMs, isHeld }
      if (job.isCancelAsked) abort.abort(CANCELLED)
      const done = job.isCancelAsked
        ? await settleJob(parts, job, progress)
        : await runJob(parts, job, abort.signal, progress)
      if (!done) return await this.#cancelled(job.id, progress)
      await this.#told(() =>
        this.jobs.end(job.id, this.#instance, { ...done, state: 'done', progress: progress.atEnd(done.report) }),
      )
      this.log.info({ job: job.id, changed: done.report.changed }, 'job done')
    } catch (error) {
      await this.#told(() => this.#failed(job, abort.signal, progress, error)).catch((lost: unknown) =>
        this.log.warn({ job: job.id, error: String(lost) }, 'how the job ended could not be kept'),
      )
    } finally {
      await renewing.end()
      this.ends.emit(job.id)
    }
  }

  #cancelled(id: string, progress: ProgressMeter): Promise<void> {
    const end = { state: 'cancelled', progress: progress.now(), report: null } as const
    return this.#told(() => this.jobs.end(id, this.#instance, end))
  }

  async #failed(job: ClaimedJob, signal: AbortSignal, progress: ProgressMeter, error: unknown): Promise<void> {
    const { id } = job
    if (signal.aborted && signal.reason === LOST) return
    const refused = error instanceof BulkRefused ? error : undefined
    const problem = refused?.problem ?? error
    const isLocked = job.isInDoubt && isProblem(problem, 'lock-timeout')
    // Where it is refused for anything else, its book was read.
    const isInDoubt = job.mode === 'commit' && (isLocked || (!refused && (job.isInDoubt || mayBeCommitted(problem))))
    if (signal.aborted && signal.reason === STOPPED)
      return this.jobs.putBack(id, this.#instance, { inMs: 0, isFailure: false, isInDoubt })
    const isCancelled = signal.aborted && signal.reason === CANCELLED
    if (isCancelled && !isInDoubt) return this.#cancelled(id, progress)
    if ((isCancelled || isPassing(problem) || isLocked) && job.failures < (isLocked ? MOST_LOCKED : MOST_FAILURES)) {
      this.log.warn({ job: id, problem: isProblem(problem) ? problem.detail : undefined }, 'job put back')
      const inMs = Math.min(LONGEST_PAUSE_MS, 200 * 2 ** job.failures)
      return this.jobs.putBack(id, this.#instance, { inMs, isFailure: true, isInDoubt })
    }
    if (!isProblem(problem)) this.log.error({ job: id, error: describe(problem) }, 'job failed')
    if (refused && refused.failed.length > 0) await this.jobs.keepFailed(id, 0, refused.failed)
    await this.jobs.end(id, this.#instance, {
      state: 'failed',
      progress: progress.now(),
      report: refused?.report ?? null,
      entry: refused?.entry ?? null,
      problem: documentOf(isInDoubt ? unknownOutcome(job, problem) : problem),
      isInDoubt,
    })
  }

  /** What has to be kept in the home database is tried for a while: it may be away just as the target was. */
  async #told(tell: () => Promise<void>): Promise<void> {
    for (let tries = 0; ; tries++) {
      try {
        return await tell()
      } catch (error) {
        if (tries > 20) throw error
        await delay(500)
      }
    }
  }

  /** @param heldSince before when nobody else can have taken the job, by `performance.now` */
  #keepRenewing(job: ClaimedJob, abort: AbortController, progress: ProgressMeter, heldSince: number) {
    let renewedAt = heldSince
    let going: Promise<void> = Promise.resolve()
    let isOver = false
    const renew = async () => {
      try {
        const askedAt = performance.now()
        const { isOurs, cancelAsked } = await this.jobs.renew(job.id, this.#instance, progress.now())
        if (isOurs) renewedAt = askedAt
        if (isOver) return
        if (!isOurs) abort.abort(LOST)
        else if (cancelAsked) abort.abort(CANCELLED)
      } catch {
        // Nobody else may have taken it while the home database is away; when it is back somebody will.
        if (performance.now() - renewedAt > 2 * LEASE_MS) abort.abort(LOST)
      }
    }
    let isGoing = false
    const timer = setInterval(() => {
      if (isGoing) return
      isGoing = true
      going = renew().finally(() => (isGoing = false))
    }, RENEW_EVERY_MS)
    return {
      // Whoever was held up, or could not reach the home database, may have lost the job to another: it is asked before anything stands.
      isHeld: async () => {
        while (!abort.signal.aborted && performance.now() - renewedAt > LEASE_MS) {
          await renew()
          await delay(PAUSE_MS)
        }
        return !abort.signal.aborted
      },
      end: async () => {
        isOver = true
        clearInterval(timer)
        await going
      },
    }
  }
}

const CANCELLED = new Error('The job was cancelled.')
const STOPPED = new Error('The service stops.')
const LOST = new Error('Another service has taken the job.')

/** Whether the target, or the home database, was away, or too busy. How far a job came is read from the target's book when it goes on. */
function isPassing(problem: unknown): boolean {
  return isProblem(problem, 'target-unavailable', 'too-many-requests', 'outcome-unknown')
}

/** Whether the job has committed what it could not tell, or may have. */
function mayBeCommitted(problem: unknown): boolean {
  return (
    isProblem(problem, 'outcome-unknown') ||
    (isProblem(problem, 'target-unavailable') && problem.facts['home'] === true)
  )
}

/** What is told of a job that may have committed something, and whose book cannot be read. */
function unknownOutcome({ id, target }: ClaimedJob, problem: unknown): unknown {
  if (isProblem(problem, 'outcome-unknown')) return problem
  const why = isProblem(problem) ? ` ${problem.detail}` : ''
  return new LedgermanProblem(
    'outcome-unknown',
    `Whether this job was committed is not known: a connection broke, and the book of ${target} could not be read since.${why} Once that is put right, resume the job: it goes on from what the book says.`,
    { target, job: id },
    { cause: problem },
  )
}

function documentOf(error: unknown): ProblemDocument {
  const problem = isProblem(error) ? error : new LedgermanProblem('internal', 'Something went wrong in Ledgerman.')
  return toProblemDocument(problem.code, problem.detail, problem.facts)
}

function describe(error: unknown): Record<string, unknown> {
  if (!(error instanceof Error)) return { type: typeof error }
  const { code } = error as { code?: string }
  const isOfDatabase = 'severity' in error
  return isOfDatabase ? { sqlstate: code } : { name: error.name, message: error.message, stack: error.stack }
}
