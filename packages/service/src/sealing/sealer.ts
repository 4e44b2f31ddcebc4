import { isProblem } from '@ledgerman/contract'
import { sealBook, type Target } from '@ledgerman/core'
import type { SealSigner } from '@ledgerman/seal'
import type { Logger } from 'pino'
import type { TargetRegistry } from '../targets/target-registry.js'

/** How long a book that nothing is written to, or that cannot be sealed, is left alone at most, in milliseconds. */
const LONGEST_PAUSE_MS = 30_000

/** A round takes at most so much of the time: where it takes long, the next one comes later. */
const SHARE = 20

/** How often the whole book is looked through for entries that were committed long after they were begun, in milliseconds. */
const THOROUGH_EVERY_MS = 10 * 60_000

/** Seals the books of all targets, one after the other and again and again. */
export class Sealer {
  readonly #timers = new Map<string, NodeJS.Timeout>()
  readonly #running = new Set<Promise<void>>()
  readonly #told = new Map<string, string>()
  readonly #thoroughAt = new Map<string, number>()
  #isStopped = false

  constructor(
    readonly targets: TargetRegistry,
    readonly signer: SealSigner,
    readonly everyMs: number,
    readonly log: Logger,
  ) {}

  start(): void {
    for (const name of this.targets.names()) this.#plan(name, this.everyMs)
  }

  /** Takes up no more; what is going on is waited for. */
  async stop(): Promise<void> {
    this.#isStopped = true
    for (const timer of this.#timers.values()) clearTimeout(timer)
    await Promise.all(this.#running)
  }

  #plan(name: string, inMs: number): void {
    if (this.#isStopped) return
    const begin = () => {
      const round = this.#round(name, inMs).finally(() => this.#running.delete(round))
      this.#running.add(round)
    }
    this.#timers.set(name, setTimeout(begin, inMs).unref())
  }

  async #round(name: string, lastPauseMs: number): Promise<void> {
    const began = performance.now()
    const isAdded = await this.#seal(this.targets.get(name))
    const took = performance.now() - began
    const next = isAdded ? this.everyMs : Math.min(LONGEST_PAUSE_MS, lastPauseMs * 1.5, this.everyMs * 3)
    this.#plan(name, Math.max(next, took * SHARE))
  }

  /** @returns whether something was sealed. */
  async #seal(target: Target): Promise<boolean> {
    try {
      if (!(await target.isBookPrepared())) return false
      const thorough = performance.now() - (this.#thoroughAt.get(target.name) ?? -Infinity) > THOROUGH_EVERY_MS
      const { added, seal } = await sealBook(target, this.signer, { thorough })
      if (thorough) this.#thoroughAt.set(target.name, performance.now())
      this.#told.delete(target.name)
      if (added > 0) this.log.debug({ target: target.name, entries: seal.entries, added }, 'book sealed')
      return added > 0
    } catch (error) {
      this.#tellOnce(target.name, error)
      return false
    }
  }

  /** What goes on for long is said once. */
  #tellOnce(target: string, error: unknown): void {
    const detail = isProblem(error) ? `${error.code}: ${error.detail}` : String(error)
    if (this.#told.get(target) === detail) return
    this.#told.set(target, detail)
    // Another service seals it, or nobody can reach it now: neither is a fault of the book.
    const isPassing = isProblem(error, 'lock-timeout', 'target-unavailable', 'too-many-requests')
    this.log[isPassing ? 'debug' : 'warn']({ target, error: detail }, 'book cannot be sealed')
  }
}
