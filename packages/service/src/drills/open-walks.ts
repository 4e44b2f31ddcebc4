import { randomUUID } from 'node:crypto'
import { LedgermanProblem } from '@ledgerman/contract'
import type { WalkThrough } from '@ledgerman/core'

/** After how long a walk that nobody goes on with is given up, in milliseconds: it holds a database of its own. */
const IDLE_LIMIT_MS = 10 * 60_000
const MOST_OPEN = 10

/** The runs that people go through step by step, each with its scratch database, for as long as somebody goes on. */
export class OpenWalks {
  #building = 0
  readonly #open = new Map<string, { walk: WalkThrough; actor: string; timer: NodeJS.Timeout }>()

  /**
   * Begins one, where there is room: those that are still being built take it too.
   *
   * @throws LedgermanProblem too-many-requests, and what `build` throws
   */
  async begin(target: string, actor: string, build: () => Promise<WalkThrough>): Promise<[string, WalkThrough]> {
    if (this.#open.size + this.#building >= MOST_OPEN)
      throw new LedgermanProblem(
        'too-many-requests',
        `${MOST_OPEN} runs are gone through step by step already, each with a scratch database. Stop one, or wait.`,
      )
    this.#building++
    try {
      const walk = await build()
      const id = randomUUID()
      const key = `${target}/${id}`
      this.#open.set(key, { walk, actor, timer: this.#timer(key) })
      return [id, walk]
    } finally {
      this.#building--
    }
  }

  /** How many are open, or being built. */
  get count(): number {
    return this.#open.size + this.#building
  }

  /** @throws LedgermanProblem not-found: whoever did not begin it does not see it. */
  get(target: string, actor: string, id: string): WalkThrough {
    const key = `${target}/${id}`
    const open = this.#open.get(key)
    if (!open || open.actor !== actor)
      throw new LedgermanProblem(
        'not-found',
        'There is no such run to go through. It may have been given up; restart.',
        {
          walk: id,
        },
      )
    clearTimeout(open.timer)
    open.timer = this.#timer(key)
    return open.walk
  }

  async stop(target: string, actor: string, id: string): Promise<void> {
    const walk = this.get(target, actor, id)
    this.#forget(`${target}/${id}`)
    await walk.stop()
  }

  async stopAll(): Promise<void> {
    const walks = [...this.#open.values()].map(({ walk }) => walk)
    for (const key of [...this.#open.keys()]) this.#forget(key)
    await Promise.all(walks.map((walk) => walk.stop().catch(() => undefined)))
  }

  #timer(key: string): NodeJS.Timeout {
    return setTimeout(() => {
      const walk = this.#open.get(key)?.walk
      this.#forget(key)
      void walk?.stop().catch(() => undefined)
    }, IDLE_LIMIT_MS).unref()
  }

  #forget(key: string): void {
    clearTimeout(this.#open.get(key)?.timer)
    this.#open.delete(key)
  }
}
