import type { LockHolder } from '@ledgerman/contract'

/** Callers who go after the same thing, such as a record: so many are at it at once, the others stand in line for it. */
interface Line {
  busy: number
  waiting: { admit: () => void }[]
  /** Who holds what those at it wait for, as far as anybody looked. */
  holders: readonly LockHolder[]
}

/** A turn that was granted. */
export interface Turn {
  /** Milliseconds that it was waited for. */
  waitedMs: number
  /** Told of who holds the lock that is waited for, so that those in line can be told too. */
  tellHolders(holders: readonly LockHolder[]): void
  leave(): void
}

/** Thrown where a turn did not come in time. */
export class NoTurn extends Error {
  override readonly name = 'NoTurn'

  constructor(
    readonly waitedMs: number,
    readonly holders: readonly LockHolder[],
  ) {
    super(`no turn within ${waitedMs} ms`)
  }
}

/**
 * Keeps callers who go after the same thing from taking every session there is while they wait for one another, or for somebody else's
 * lock: only a few of them wait in the database, the rest here, first come first served.
 */
export class TurnQueue {
  readonly #lines = new Map<string, Line>()

  /** @param width how many may be at one thing at once */
  constructor(readonly width: number) {}

  /** Whether somebody stands in line for it already. */
  isCrowded(subject: string): boolean {
    return (this.#lines.get(subject)?.busy ?? 0) >= this.width
  }

  /** How many callers stand in line, for all things together. */
  get waiting(): number {
    let count = 0
    for (const line of this.#lines.values()) count += line.waiting.length
    return count
  }

  /**
   * Resolves when it is the caller's turn.
   *
   * @throws NoTurn where it does not come within so many milliseconds
   */
  async enter(subject: string, patienceMs: number): Promise<Turn> {
    let line = this.#lines.get(subject)
    if (!line) this.#lines.set(subject, (line = { busy: 0, waiting: [], holders: [] }))
    const since = performance.now()
    if (line.busy < this.width) line.busy++
    else await this.#inLine(line, patienceMs, since)
    return this.#turn(subject, line, performance.now() - since)
  }

  #inLine(line: Line, patienceMs: number, since: number): Promise<void> {
    return new Promise((resolve, reject) => {
      const waiting = {
        admit: () => {
          clearTimeout(timer)
          resolve()
        },
      }
      const timer = setTimeout(() => {
        line.waiting.splice(line.waiting.indexOf(waiting), 1)
        reject(new NoTurn(performance.now() - since, line.holders))
      }, patienceMs)
      line.waiting.push(waiting)
    })
  }

  #turn(subject: string, line: Line, waitedMs: number): Turn {
    let hasLeft = false
    return {
      waitedMs,
      tellHolders: (holders) => void (line.holders = holders),
      leave: () => {
        if (hasLeft) return
        hasLeft = true
        const next = line.waiting.shift()
        // The place goes over to whoever is next.
        if (next) return next.admit()
        line.busy--
        if (line.busy === 0) this.#lines.delete(subject)
      },
    }
  }
}
