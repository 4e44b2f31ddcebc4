import { setTimeout as delay } from 'node:timers/promises'
import type { LockHolder } from '@ledgerman/contract'
import type { Lookout } from './queryable.js'
import { findHolders } from './find-holders.js'

/** How long a statement may run before somebody looks whether it waits for a lock, in milliseconds. */
const FIRST_LOOK_MS = 100

/** How often it is looked at after that, in milliseconds: at most, and where it may wait only for a short time. */
const EVERY_MS = 250
const SHORTEST_MS = 50

/** A statement that waits for a lock is cancelled when it has waited this much longer than it may, in milliseconds. */
const GRACE_MS = 20

/** When it is looked at once more who is at the root, where that one was seen waiting before, in milliseconds. */
const LOOK_AGAIN_MS = 15

/**
 * Looks, while a statement runs, who holds the lock it waits for, and ends a wait that is longer than it may be: PostgreSQL times each
 * lock apart, and a row that many wait for takes two of them. Nothing is asked of the server for a statement that ends before the first
 * look; with a short lock wait the look comes earlier, so that it comes before the end.
 *
 * Whoever has one keeps the session until `settled` resolves, since a cancel on its way would hit the next statement; one that was
 * cancelled is not used again.
 */
export class LockWatch {
  #holders: LockHolder[] = []
  #timer: NodeJS.Timeout | undefined
  #isOver = false
  #cancelling: Promise<unknown> | undefined
  /** Since when it has been seen waiting at every look, in milliseconds of `performance.now`. */
  #waitingSince: number | undefined
  readonly #every: number

  constructor(
    readonly target: Lookout,
    readonly pid: number,
    readonly lockWaitMs: number,
    readonly onWait?: (holders: LockHolder[]) => void,
  ) {
    this.#every = Math.max(5, Math.min(FIRST_LOOK_MS, Math.floor(lockWaitMs / 3)))
    this.#timer = setTimeout(() => this.#look(), this.#every)
  }

  /** Who held it when last looked at: the ones waited for first, then those they wait for. */
  get holders(): readonly LockHolder[] {
    return this.#holders
  }

  /** Whether it ended the statement because that had waited too long. */
  get hasCancelled(): boolean {
    return this.#cancelling !== undefined
  }

  /**
   * Resolves when no cancel of it is on its way any more. A look that is still unanswered touches nothing, and is not waited for: it
   * may itself wait for a session to look in, where whoever asks here holds the last one.
   */
  get settled(): Promise<unknown> {
    return this.#cancelling ?? Promise.resolve()
  }

  end(): void {
    this.#tellWait()
    this.#isOver = true
    clearTimeout(this.#timer)
  }

  #look(): void {
    void this.#ask().then(() => {
      if (!this.#isOver) this.#timer = setTimeout(() => this.#look(), this.#nextLookMs())
    })
  }

  async #ask(): Promise<void> {
    let found = await this.#find()
    if (!this.#isOver && this.#hasJustEndedItsWait(found)) {
      await delay(LOOK_AGAIN_MS, undefined, { ref: false })
      found = await this.#find()
    }
    if (this.#isOver) return
    if (found.length === 0) return this.#tellWait()
    const now = performance.now()
    this.#waitingSince ??= now - this.#every
    const isNews = found.map(({ pid }) => pid).join() !== this.#holders.map(({ pid }) => pid).join()
    this.#holders = found
    if (isNews) this.onWait?.(found)
    if (now - this.#waitingSince < this.lockWaitMs + GRACE_MS) return
    this.#cancelling = this.target.cancel(this.pid)
    await this.#cancelling
  }

  #find(): Promise<LockHolder[]> {
    return findHolders(this.target, this.pid).catch(() => [])
  }

  /** Whether the root waited itself when last looked at. It has the lock now, or has given up, and is gone in a moment: who it waited for holds it still. */
  #hasJustEndedItsWait(found: readonly LockHolder[]): boolean {
    const root = found.findLast(({ isRoot }) => isRoot)
    return this.#holders.some(({ pid, isRoot }) => pid === root?.pid && !isRoot)
  }

  /** A wait is over, as far as can be seen. */
  #tellWait(): void {
    if (this.#waitingSince === undefined) return
    this.target.activity.lockWaited?.(performance.now() - this.#waitingSince)
    this.#waitingSince = undefined
  }

  #nextLookMs(): number {
    const next = Math.max(this.#every, SHORTEST_MS, Math.min(EVERY_MS, this.lockWaitMs / 3))
    if (this.#waitingSince === undefined) return next
    const leftMs = this.#waitingSince + this.lockWaitMs + GRACE_MS - performance.now()
    return Math.max(1, Math.min(next, leftMs + 1))
  }
}
