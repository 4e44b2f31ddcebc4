import { collectDefaultMetrics, Counter, Gauge, Histogram, Registry } from 'prom-client'
import type { Target, TargetActivity } from '@ledgerman/core'
import type { TargetRegistry } from '../targets/target-registry.js'

/** What is looked at when somebody asks. */
interface Watched {
  targets: Pick<TargetRegistry, 'names' | 'get'>
  home: { counts: SessionCounts }
  openWalks: { count: number }
}

interface SessionCounts {
  open: number
  busy: number
  waiting: number
}

/** In seconds; a keyed change alone takes a few milliseconds, a run that waits for a lock seconds. */
const REQUEST_SECONDS = [0.001, 0.0025, 0.005, 0.01, 0.025, 0.05, 0.1, 0.25, 0.5, 1, 2.5, 5, 10, 30, 60]
const LOCK_WAIT_SECONDS = [0.1, 0.25, 0.5, 1, 2, 5, 10]
const GROUP_CALLERS = [1, 2, 4, 8, 16, 32, 64]

/**
 * What the service counts, as Prometheus text. Labels are targets, routes as they are declared, codes and outcomes: never a key, a
 * value or a name of a caller.
 */
export class Metrics {
  readonly #registry = new Registry()
  readonly #ended = this.#counter(
    'ledgerman_runs_total',
    'Changes of one record, and runs, that are over. The code is empty where nothing was refused.',
    ['target', 'what', 'mode', 'outcome', 'code'],
  )
  readonly #retries = this.#counter(
    'ledgerman_retries_total',
    'Attempts that were made again after PostgreSQL ended one.',
    ['target'],
  )
  readonly #requests = this.#histogram(
    'ledgerman_request_duration_seconds',
    'Time from a request to its answer.',
    REQUEST_SECONDS,
    ['route', 'status'],
  )
  readonly #groups = this.#histogram('ledgerman_group_callers', 'Callers that were sent for together.', GROUP_CALLERS, [
    'target',
  ])
  readonly #lockWaits = this.#histogram(
    'ledgerman_lock_wait_seconds',
    'Waits for locks that were seen: those of 0.1 s and more.',
    LOCK_WAIT_SECONDS,
    ['target'],
  )
  #drills = 0

  constructor() {
    collectDefaultMetrics({ register: this.#registry })
  }

  /** Told by a target of what happens on it. */
  activityOf(target: string): TargetActivity {
    const groups = this.#groups.labels(target)
    return {
      ended: (what, mode, outcome, code) => this.#ended.inc({ target, what, mode, outcome, code: code ?? '' }),
      grouped: (callers) => groups.observe(callers),
      retried: () => this.#retries.inc({ target }),
      lockWaited: (ms) => this.#lockWaits.observe({ target }, ms / 1000),
    }
  }

  answered(route: string, status: number, seconds: number): void {
    this.#requests.observe({ route, status }, seconds)
  }

  /** Counts a drill for as long as it runs. */
  async drilled<T>(work: Promise<T>): Promise<T> {
    this.#drills++
    try {
      return await work
    } finally {
      this.#drills--
    }
  }

  /** Says what is looked at when somebody asks: sessions, callers who wait, drills and walks. */
  watch({ targets, home, openWalks }: Watched): void {
    const forEach = (tell: (target: Target) => void) => targets.names().forEach((name) => tell(targets.get(name)))
    this.#gauge(
      'ledgerman_sessions',
      'Database sessions, by what they are for.',
      ['target', 'for', 'state'],
      (gauge) => {
        const tell = (target: string, purpose: string, { open, busy }: SessionCounts) => {
          gauge.set({ target, for: purpose, state: 'busy' }, busy)
          gauge.set({ target, for: purpose, state: 'idle' }, open - busy)
        }
        tell('', 'home', home.counts)
        forEach(({ name, sessionCounts }) => {
          for (const [purpose, counts] of Object.entries(sessionCounts)) tell(name, purpose, counts)
        })
      },
    )
    this.#gauge(
      'ledgerman_waiting_callers',
      'Callers who wait: for a session, or in line for a record or a transaction that others are at.',
      ['target', 'for'],
      (gauge) => {
        gauge.set({ target: '', for: 'home session' }, home.counts.waiting)
        forEach(({ name, sessionCounts: { write, read, book }, recordTurns, runTurns }) => {
          gauge.set({ target: name, for: 'session' }, write.waiting + read.waiting + book.waiting)
          gauge.set({ target: name, for: 'record' }, recordTurns.waiting)
          gauge.set({ target: name, for: 'transaction' }, runTurns.waiting)
        })
      },
    )
    this.#gauge('ledgerman_drills_running', 'Drills that run.', [], (gauge) => gauge.set(this.#drills))
    this.#gauge('ledgerman_walks_open', 'Runs that are gone through step by step.', [], (gauge) =>
      gauge.set(openWalks.count),
    )
  }

  /** Says how many jobs wait and run, here and on all services. */
  watchJobs(
    jobs: { open(): Promise<{ target: string; state: string; jobs: number }[]> },
    runner: { count: number },
  ): void {
    this.#gauge('ledgerman_jobs_here', 'Jobs that this service runs.', [], (gauge) => gauge.set(runner.count))
    this.#gauge('ledgerman_jobs', 'Jobs that wait or run, on all services.', ['target', 'state'], async (gauge) => {
      gauge.reset()
      for (const { target, state, jobs: count } of await jobs.open().catch(() => []))
        gauge.set({ target, state }, count)
    })
  }

  get contentType(): string {
    return this.#registry.contentType
  }

  /** The text that Prometheus reads. */
  print(): Promise<string> {
    return this.#registry.metrics()
  }

  #counter(name: string, help: string, labelNames: string[]) {
    return new Counter({ name, help, labelNames, registers: [this.#registry] })
  }

  #histogram(name: string, help: string, buckets: number[], labelNames: string[]) {
    return new Histogram({ name, help, buckets, labelNames, registers: [this.#registry] })
  }

  #gauge(name: string, help: string, labelNames: string[], collect: (gauge: Gauge) => void | Promise<void>) {
    const gauge: Gauge = new Gauge({
      name,
      help,
      labelNames,
      registers: [this.#registry],
      collect: () => collect(gauge),
    })
  }
}
