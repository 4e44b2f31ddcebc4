import type { LockHolder } from '@ledgerman/contract'
import type { Target } from '../target/target.js'
import { findHolders } from './find-holders.js'

/** How long a statement may run before somebody looks whether it waits for a lock, in milliseconds. */
const FIRST_LOOK_MS = 100

/**
 * Looks, while a statement runs, who holds the lock it waits for. Nothing is asked of the server for a statement that ends before
 * the first look; with a short lock wait the look comes earlier, so that it comes before the end.
 */
export class LockWatch {
  #holders: LockHolder[] = []
  #timer: NodeJS.Timeout | undefined
  #isOver = false
  readonly #every: number

  constructor(
    readonly target: Target,
    readonly pid: number,
    lockWaitMs: number,
    readonly onWait?: (holders: LockHolder[]) => void,
  ) {
    this.#every = Math.max(5, Math.min(FIRST_LOOK_MS, Math.floor(lockWaitMs / 3)))
    this.#timer = setTimeout(() => void this.#look(), this.#every)
  }

  /** Who held it when last looked at: the ones waited for first, then those they wait for. */
  get holders(): readonly LockHolder[] {
    return this.#holders
  }

  end(): void {
    this.#isOver = true
    clearTimeout(this.#timer)
  }

  async #look(): Promise<void> {
    const found = await findHolders(this.target, this.pid).catch(() => [])
    if (found.length > 0) {
      const isNews = found.map(({ pid }) => pid).join() !== this.#holders.map(({ pid }) => pid).join()
      this.#holders = found
      if (isNews && !this.#isOver) this.onWait?.(found)
    }
    if (!this.#isOver) this.#timer = setTimeout(() => void this.#look(), Math.max(this.#every, 250))
  }
}
