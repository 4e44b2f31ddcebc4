import { isConnectionError } from '../problem/connection-error.js'
import { isCancelled, isLockTimeout } from '../problem/database-error.js'
import type { Statement } from '../statement/statement.js'
import { toTextArray } from '../values/text-array.js'
import type { Rows } from './queryable.js'

type Row = (string | null)[]

/** What one caller asks a shared statement with. */
export interface Asked {
  /** One for each slot of the shared statement, in order. */
  values: readonly (string | null)[]
  /** Callers with the same subject, such as a record, do not share a statement; null for one that all may have in common. */
  subject: string | null
  /** The caller's own statement, for when nobody shares one, or the shared one does not answer. */
  alone: () => Promise<Row[]>
  onStart?: ((pid: number) => void) | undefined
}

export interface SharedStatementOptions {
  statement: Statement
  send: (text: string, values: string[], name: string, onStart: (pid: number) => void) => Promise<Rows>
  /** Whether these rows, without their place, answer the caller. */
  answers: (rows: Row[]) => boolean
  /** Whether it is safe to send again what may have been done. */
  isRead: boolean
}

/** How many such statements are on their way at once: the next callers gather behind them. */
const MOST_ON_THE_WAY = 2
const MOST_CALLERS = 64

/** Nobody waits longer than this for statements on their way, in milliseconds: those may wait for a lock. */
const PATIENCE_MS = 20

/** How many callers ask alone after a statement was refused: so many at first, twice as many each time, so many at most. */
const FIRST_PAUSE = 8
const LONGEST_PAUSE = 1_024

/**
 * A statement that callers who ask at the same time share, in one round trip and one transaction: the more ask at once, the less
 * each of them costs (docs/decisions/0013). A caller with nobody beside them asks alone, and waits for nobody. Where the
 * statement fails, everybody asks alone, so that each learns of their own.
 */
export class SharedStatement {
  #onTheWay = 0
  readonly #subjectsOnTheWay = new Set<string>()
  #waiting: Waiting[] = []
  #isFlushing = false
  #timer: NodeJS.Timeout | undefined
  #pause = 0
  #nextPause = FIRST_PAUSE

  constructor(readonly options: SharedStatementOptions) {}

  /** The caller's rows, as their own statement has them. @throws what that would fail with */
  ask(asked: Asked): Promise<Row[]> {
    if (this.isPaused()) return asked.alone()
    return new Promise((resolve, reject) => {
      this.#waiting.push({ asked, since: performance.now(), resolve, reject })
      this.#soon()
    })
  }

  /** Whether the next caller had better ask alone, as it was refused to others lately. */
  isPaused(): boolean {
    return this.#pause > 0 && this.#pause-- > 0
  }

  /** All who ask in this turn of the event loop go together. */
  #soon(): void {
    if (this.#isFlushing || this.#waiting.length === 0) return
    this.#isFlushing = true
    setImmediate(() => {
      this.#isFlushing = false
      this.#flush()
    })
  }

  #flush(): void {
    while (this.#onTheWay < MOST_ON_THE_WAY) {
      // Each of the statements that may go gets its part, so that the server and this process both have something to do.
      const part = Math.ceil(this.#waiting.length / (MOST_ON_THE_WAY - this.#onTheWay))
      if (!this.#send(this.#takeSome(part))) break
    }
    while (this.#patienceLeftMs() <= 0 && this.#send(this.#takeSome(MOST_CALLERS)));
    clearTimeout(this.#timer)
    this.#timer = this.#waiting.length > 0 ? setTimeout(() => this.#flush(), this.#patienceLeftMs()) : undefined
  }

  /** For how long the first who waits goes on waiting for others. */
  #patienceLeftMs(): number {
    const [first] = this.#waiting
    return first ? first.since + PATIENCE_MS - performance.now() : Infinity
  }

  /** Sends for these callers, and whatever waits behind them afterwards; false where there are none. */
  #send(together: Waiting[]): boolean {
    if (together.length === 0) return false
    const subjects = together.flatMap(({ asked }) => asked.subject ?? [])
    for (const subject of subjects) this.#subjectsOnTheWay.add(subject)
    this.#onTheWay++
    const answered = together.length > 1 ? this.#sendTogether(together) : Promise.all(together.map(askAlone))
    void answered.then(() => {
      this.#onTheWay--
      for (const subject of subjects) this.#subjectsOnTheWay.delete(subject)
      this.#soon()
    })
    return true
  }

  /** Callers with a subject of their own each, which nobody else is on the way with; who else waits stays for the next round. */
  #takeSome(most: number): Waiting[] {
    const taken: Waiting[] = []
    const left: Waiting[] = []
    const subjects = new Set<string>()
    const lateSince = performance.now() - PATIENCE_MS
    for (const each of this.#waiting) {
      const { subject } = each.asked
      const isFree =
        subject === null ||
        (!subjects.has(subject) && (each.since <= lateSince || !this.#subjectsOnTheWay.has(subject)))
      if (subject !== null) subjects.add(subject)
      ;(isFree && taken.length < Math.min(most, MOST_CALLERS) ? taken : left).push(each)
    }
    this.#waiting = left
    return taken
  }

  async #sendTogether(together: Waiting[]): Promise<void> {
    const { statement, send, answers } = this.options
    const arrays = statement.slots.map((_, at) => toTextArray(together.map(({ asked }) => asked.values[at] ?? null)))
    const byPlace = new Map<number, Row[]>()
    try {
      const { rows } = await send(statement.text, arrays, statement.name, (pid) => {
        for (const { asked } of together) asked.onStart?.(pid)
      })
      for (const [place, ...row] of rows) byPlace.set(Number(place), [...(byPlace.get(Number(place)) ?? []), row])
    } catch (error) {
      if (this.#concernsEverybody(error)) {
        for (const { reject } of together) reject(error)
        return
      }
      this.#wasRefused()
      await Promise.all(together.map(askAlone))
      return
    }
    const unanswered = together.filter((waiting, at) => {
      const rows = byPlace.get(at + 1) ?? []
      const isAnswered = answers(rows)
      if (isAnswered) waiting.resolve(rows)
      return !isAnswered
    })
    // Callers who are in one another's way are better off alone.
    if (2 * unanswered.length > together.length) this.#wasRefused()
    else this.#nextPause = FIRST_PAUSE
    await Promise.all(unanswered.map(askAlone))
  }

  #wasRefused(): void {
    this.#pause = this.#nextPause
    this.#nextPause = Math.min(LONGEST_PAUSE, this.#nextPause * 2)
  }

  /** Whether each caller's own statement fails, or would have failed, the same way: asked again it would only wait again. */
  #concernsEverybody(error: unknown): boolean {
    if (isConnectionError(error)) return !this.options.isRead
    return isLockTimeout(error) || isCancelled(error)
  }
}

interface Waiting {
  asked: Asked
  /** Milliseconds, of `performance.now`. */
  since: number
  resolve: (rows: Row[]) => void
  reject: (error: unknown) => void
}

function askAlone({ asked, resolve, reject }: Waiting): Promise<void> {
  return asked.alone().then(resolve, reject)
}
