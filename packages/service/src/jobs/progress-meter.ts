import type { JobProgress } from '@ledgerman/contract'
import type { ClaimedJob } from './job-row.js'

/** How far a job is: rows, rate and time left. */
export class ProgressMeter {
  #rows = 0
  #total: number | null
  #phase: string | null = null
  #chunk: number | null
  /** Rows of the chunks before, and when this runner began. */
  #base: number
  readonly #started = performance.now()
  readonly #from: number

  constructor({ rows, chunksDone, request }: Pick<ClaimedJob, 'rows' | 'chunksDone' | 'request'>) {
    this.#total = rows
    this.#chunk = chunksDone > 0 ? chunksDone : null
    this.#base = request.kind === 'file' && request.chunk !== null ? Math.min(chunksDone * request.chunk, rows ?? 0) : 0
    this.#from = this.#base
  }

  tell(phase: string, rows: number, total: number | null): void {
    this.#phase = phase
    // The copying ahead is no row that is through.
    this.#rows = phase === 'changing' ? rows : 0
    if (this.#total === null && total !== null && phase === 'changing') this.#total = total
  }

  chunkDone(chunk: number, rows: number): void {
    this.#chunk = chunk
    this.#base = rows
    this.#rows = 0
  }

  now(): JobProgress {
    const through = this.#base + this.#rows
    const seconds = (performance.now() - this.#started) / 1000
    const perSecond = through > this.#from && seconds > 0 ? Math.round((through - this.#from) / seconds) : null
    const left = this.#total === null ? null : Math.max(0, this.#total - through)
    return {
      rows: through,
      total: this.#total,
      perSecond,
      remainingMs: perSecond && left !== null ? Math.round((left / perSecond) * 1000) : null,
      chunk: this.#chunk,
      phase: this.#phase,
    }
  }

  atEnd({
    matched,
    notFound,
    ambiguous,
    changed,
  }: {
    matched: number
    notFound: number
    ambiguous: number
    changed: number
  }): JobProgress {
    const { chunk } = this.now()
    const seconds = Math.max(0.001, (performance.now() - this.#started) / 1000)
    const rows = this.#total ?? matched + notFound + ambiguous
    return { rows, total: rows, perSecond: Math.round(changed / seconds), remainingMs: 0, chunk, phase: null }
  }
}
