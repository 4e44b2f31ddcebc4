import { aMoment, unitsOf, type Turning } from '../interleaving/turns.js'
import { historyEvent } from '../interleaving/history-event.js'
import type { HistoryEvent } from '../interleaving/history.js'
import type { ScratchDatabase } from '../scratch/scratch-database.js'
import { answerOf, isDeadlock, type CodeRun } from './code-run.js'
import { hookedPool } from './hooked-pool.js'

/**
 * A run of the written code in a schedule: it is held before each of its turns. What it reads is not seen, so that schedules are
 * judged by the rows in the end and by what each caller was told.
 */
export class CodeLane implements Turning {
  readonly missing = []
  isOver = false
  isWaiting = false
  refusal: string | null = null
  readonly #units
  #pid = 0
  #hasBegun = false
  /** The turn that it is at: its place among the units; behind them the commit. */
  #at = -1
  #running: Promise<void> | null = null
  #arrived: () => void = () => undefined
  #goOn: () => void = () => undefined

  constructor(
    readonly run: number,
    readonly scratch: ScratchDatabase,
    readonly code: CodeRun,
    readonly pool: unknown,
    readonly events: HistoryEvent[],
  ) {
    this.#units = unitsOf(code.drilled)
  }

  async turn(): Promise<void> {
    await this.settle()
    if (this.isOver || this.#running) return
    if (!this.#hasBegun) {
      this.#hasBegun = true
      // The transaction begins with its first statement, since that is when it takes its view of the rows.
      await this.#run(() => this.#begin())
      if (this.isOver || this.#at < 0) return
    }
    const at = this.#at
    const running = this.#run(() => this.#goOn())
    void running.then(() => this.#tell(at))
    await this.settle()
  }

  async settle(): Promise<void> {
    while (this.#running) {
      const isDone = await Promise.race([this.#running.then(() => true), aMoment().then(() => false)])
      if (isDone) break
      if (!(await this.scratch.blocked([this.#pid])).has(this.#pid)) continue
      if (!this.isWaiting && this.#isRunning()) {
        this.isWaiting = true
        this.#say(this.#at, 'waits')
      }
      return
    }
    // What was done is told by now.
    await Promise.resolve()
  }

  async untilDone(): Promise<void> {
    await this.#running
    await Promise.resolve()
  }

  #isRunning(): boolean {
    return this.#running !== null
  }

  /** Lets it go on to where it waits for its next turn, or is over. */
  #run(go: () => void): Promise<void> {
    const running = new Promise<void>((resolve) => (this.#arrived = resolve)).then(() => {
      this.#running = null
    })
    this.#running = running
    go()
    return running
  }

  #begin(): void {
    const held = (at: number) =>
      new Promise<void>((resolve) => {
        this.#at = at
        this.#goOn = resolve
        this.#arrived()
      })
    const pool = hookedPool(
      this.pool,
      this.code.drilled.plan,
      {
        beforeStep: async (step) => {
          const at = this.#units.findIndex(([first]) => first?.no === step)
          if (at >= 0) await held(at)
        },
        beforeCommit: () => held(this.#units.length),
      },
      (pid) => (this.#pid = pid),
    )
    const call = this.code.call(pool)
    let deadlock = false
    call.catch((error: unknown) => (deadlock = isDeadlock(error)))
    void answerOf(call).then(({ outcome, detail }) => {
      this.isOver = true
      if (outcome !== 'committed') {
        this.refusal = deadlock ? 'deadlock' : outcome
        this.#say(this.#at, 'refused', detail ?? outcome)
      }
      this.isWaiting = false
      this.#arrived()
    })
  }

  /** Said of a turn that was not refused. */
  #tell(at: number): void {
    if (this.isOver && this.refusal !== null) return
    this.#say(at, this.isWaiting ? 'went on' : 'ran')
    this.isWaiting = false
  }

  #say(at: number, action: HistoryEvent['action'], why?: string): void {
    this.events.push(historyEvent(this.run, this.code.drilled, this.#units[at]?.[0] ?? null, action, why))
  }
}
