/**
 * Holds callers back for a moment while enough sessions are busy already. A statement that judges and books by itself keeps
 * a server process busy from its first to its last instruction, so a few sessions do more of them than many, which only
 * take turns on the same processors (docs/benchmarks.md). Nobody waits longer than `patienceMs`: sessions that wait for
 * locks, or a server with more processors, get company after that.
 */
export class SessionGate {
  #busy = 0
  readonly #waiting: HeldBack[] = []

  constructor(
    readonly busySessions: number,
    readonly patienceMs: number,
  ) {}

  /** Resolves when the caller may take a session; `leave` has to follow. */
  enter(): Promise<void> | undefined {
    if (this.#busy < this.busySessions) {
      this.#busy++
      return undefined
    }
    return new Promise((resolve) => {
      const waiting: HeldBack = { resolve, timer: setTimeout(() => this.#admit(waiting), this.patienceMs) }
      this.#waiting.push(waiting)
    })
  }

  leave(): void {
    this.#busy--
    const [first] = this.#waiting
    if (first && this.#busy < this.busySessions) this.#admit(first)
  }

  #admit(waiting: HeldBack): void {
    clearTimeout(waiting.timer)
    this.#waiting.splice(this.#waiting.indexOf(waiting), 1)
    this.#busy++
    waiting.resolve()
  }
}

interface HeldBack {
  resolve: () => void
  timer: NodeJS.Timeout
}
