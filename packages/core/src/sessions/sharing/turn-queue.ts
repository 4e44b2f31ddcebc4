import type { LockHolder } from '@ledgerman/contract'

/** Callers who go after the same thing, such as a record: so many are at it at once, the others stand in line for it. */
interface Line {
  busy: number
  waiting: { admit: () => void; refuse: () => void; until: number }[]
  /** Who holds what those at it wait for, as far as anybody looked. */
  holders: readonly LockHolder[]
}

/** Callers who came together are out of time together: they are told one by one, so that others are not held up meanwhile. */
const BETWEEN_REFUSALS_MS = 2

/** A turn that was granted. */
export interface Turn {
  /** Milliseconds that it was waited for. */
  waitedMs: number
  /** Told of who holds the lock that is waited for, so that those in line can be told too. */
  tellHolders(holders: readonly LockHolder[]): void
  /** @param isHeld whether what was waited for is held still: who has hardly any time left need not go and see */
  leave(isHeld?: boolean): void
}

/** Who has so little left of the time they may wait is not let at a thing that is held, in milliseconds. */
const TOO_LATE_MS = 150

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
  /** When the next who is out of time is told so, in milliseconds of `performance.now`. */
  #nextRefusal = 0
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
        until: since + patienceMs,
        admit: () => {
          clearTimeout(timer)
          resolve()
        },
        refuse: () => {
          clearTimeout(timer)
          line.waiting.splice(line.waiting.indexOf(waiting), 1)
          const now = performance.now()
          this.#nextRefusal = Math.max(now, this.#nextRefusal + BETWEEN_REFUSALS_MS)
          setTimeout(() => reject(new NoTurn(performance.now() - since, line.holders)), this.#nextRefusal - now)
        },
      }
      const timer = setTimeout(waiting.refuse, patienceMs)
      line.waiting.push(waiting)
    })
  }

  #turn(subject: string, line: Line, waitedMs: number): Turn {
    let hasLeft = false
    return {
      waitedMs,
      tellHolders: (holders) => void (line.holders = holders),
      leave: (isHeld = false) => {
        if (hasLeft) return
        hasLeft = true
        const latest = performance.now() + TOO_LATE_MS
        if (isHeld) for (const each of line.waiting.filter(({ until }) => until < latest)) each.refuse()
        const next = line.waiting.shift()
        // The place goes over to whoever is next.
        if (next) return next.admit()
        line.busy--
        if (line.busy === 0) this.#lines.delete(subject)
      },
    }
  }
}
