import { OWN_NAMES, writingLimits } from '../sessions/session-settings.js'
import { makeRoom, SessionPool, type PoolOptions } from '../sessions/session-pool.js'

const CATALOGUE_SESSIONS = 2
const BOOK_SESSIONS = 4

/** Sessions for looking who waits and for cancelling: they are there when all others wait. */
const CONTROL_SESSIONS = 2
const CONTROL_LIMIT_MS = 2_000

const ONLY_READ = { default_transaction_read_only: 'on' }

/** The sessions of a target, by what they are for. */
export class SessionPools {
  readonly write: SessionPool
  /** Of those who only read records, so that a find needs no BEGIN of its own to be sure of that. */
  readonly read: SessionPool
  readonly catalogue: SessionPool
  readonly book: SessionPool
  readonly control: SessionPool

  constructor(options: Omit<PoolOptions, 'onNoneLeft' | 'onOverdue' | 'settings'>) {
    const pool = { ...options, onNoneLeft: () => this.makeRoom(), onOverdue: (pid: number) => this.cancel(pid) }
    this.write = new SessionPool({ ...pool, limits: writingLimits(pool.limits) })
    this.read = new SessionPool({ ...pool, settings: ONLY_READ })
    this.catalogue = new SessionPool({
      ...pool,
      most: CATALOGUE_SESSIONS,
      // A table is read again and again, the same way whichever it is.
      settings: { ...ONLY_READ, ...OWN_NAMES, plan_cache_mode: 'force_generic_plan' },
    })
    this.book = new SessionPool({ ...pool, most: BOOK_SESSIONS, settings: { ...ONLY_READ, ...OWN_NAMES } })
    this.control = new SessionPool({
      ...pool,
      most: CONTROL_SESSIONS,
      limits: { ...pool.limits, timeLimitMs: CONTROL_LIMIT_MS },
      settings: OWN_NAMES,
      onOverdue: undefined,
    })
  }

  /** Cancels what runs in a session; the caller has to hold that session until this is done. @returns whether the cancel was sent */
  cancel(pid: number): Promise<boolean> {
    return this.control.query('select pg_catalog.pg_cancel_backend($1::integer)', [String(pid)]).then(
      () => true,
      () => false,
    )
  }

  /** How many there are, on loan, and waited for. */
  get counts() {
    return {
      write: this.write.counts,
      read: this.read.counts,
      book: this.book.counts,
      control: this.control.counts,
    }
  }

  /** Ends idle sessions, so that the server can give their places to others. */
  makeRoom(): void {
    makeRoom(this.#all)
  }

  /** Ends every session: those on loan when they come back, or when the time is over, in milliseconds. */
  async close(limitMs: number): Promise<void> {
    await Promise.all(this.#all.map((pool) => pool.close(limitMs)))
  }

  get #all(): SessionPool[] {
    return [this.write, this.read, this.catalogue, this.book, this.control]
  }
}
