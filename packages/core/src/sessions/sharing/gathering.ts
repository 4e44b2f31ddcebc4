type Row = (string | null)[]

/** What a caller asks for, who may go together with others. */
export interface Asked {
  /** Gives one for each slot of the statement, in order. */
  values: () => readonly (string | null)[]
  /** Callers with the same subject, such as a record, do not go together; null for one that all may have in common. */
  subject: string | null
  /** The caller's own statement, for when nobody goes along, or no answer came of it. */
  alone: () => Promise<Row[]>
  /** Told of the server's process once the statement is on its way there. */
  onStart?: ((pid: number) => void) | undefined
}

export interface Asking {
  asked: Asked
  values: readonly (string | null)[]
  /** Milliseconds, of `performance.now`. */
  since: number
  resolve: (rows: Row[]) => void
  reject: (error: unknown) => void
}

/** How many groups are on their way at once: the next callers gather behind them. */
const MOST_ON_THE_WAY = 2

/**
 * A second group goes beside the first where so many wait, or where one has waited so long, in milliseconds: a small one
 * costs this process as much as it saves, a slow one may be waiting for the disk.
 */
const ENOUGH_TO_GO_BESIDE = 6
const LONG_ENOUGH_MS = 5

/** How many callers ask alone after a group was refused: so many at first, twice as many each time, so many at most. */
const FIRST_PAUSE = 8
const LONGEST_PAUSE = 1_024

/**
 * Callers who ask at the same time gather, and go together: the more ask at once, the less each of them costs
 * (docs/decisions/0013). Where nobody is on the way yet, a caller waits for nobody.
 */
export abstract class Gathering {
  #onTheWay = 0
  readonly #subjectsOnTheWay = new Set<string>()
  #waiting: Asking[] = []
  #isFlushing = false
  #timer: NodeJS.Timeout | undefined
  #pause = 0
  #nextPause = FIRST_PAUSE
  /** Told of each group that is sent for. */
  onGroup: ((callers: number) => void) | undefined

  /**
   * @param mostCallers in one group
   * @param patienceMs how long anybody waits for groups on their way at most, in milliseconds: those may wait for a lock
   */
  protected constructor(
    readonly mostCallers: number,
    readonly patienceMs: number,
  ) {}

  /** Asks for one caller or more; settles each of them, and never throws. */
  protected abstract askFor(group: readonly Asking[]): Promise<void>

  /** The caller's rows, as their own statement has them. @throws what that would fail with */
  ask(asked: Asked): Promise<Row[]> {
    if (this.#pause > 0) {
      this.#pause--
      return asked.alone()
    }
    return new Promise((resolve, reject) => {
      this.#waiting.push({ asked, values: asked.values(), since: performance.now(), resolve, reject })
      this.#soon()
    })
  }

  /** Whether the next caller asks alone, as others were refused together lately. */
  get isPaused(): boolean {
    return this.#pause > 0
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
    while (this.#mayGo()) {
      // Where they are enough for two groups, the server and this process both have something to do.
      const isHalved = this.#onTheWay === 0 && this.#waiting.length >= 2 * ENOUGH_TO_GO_BESIDE
      const part = Math.ceil(this.#waiting.length / (isHalved ? MOST_ON_THE_WAY : 1))
      if (!this.#send(this.#takeSome(part))) break
    }
    while (this.#leftMs(this.patienceMs) <= 0 && this.#send(this.#takeSome(this.mostCallers)));
    clearTimeout(this.#timer)
    if (this.#waiting.length === 0) return
    const untilMs = this.#onTheWay < MOST_ON_THE_WAY ? this.#leftMs(LONG_ENOUGH_MS) : 0
    this.#timer = setTimeout(() => this.#flush(), untilMs > 0 ? untilMs : this.#leftMs(this.patienceMs))
  }

  #mayGo(): boolean {
    if (this.#onTheWay === 0) return true
    if (this.#onTheWay >= MOST_ON_THE_WAY) return false
    return this.#waiting.length >= ENOUGH_TO_GO_BESIDE || this.#leftMs(LONG_ENOUGH_MS) <= 0
  }

  /** For how long the first who waits goes on waiting, who waits for so long at most, in milliseconds. */
  #leftMs(longestMs: number): number {
    const [first] = this.#waiting
    return first ? first.since + longestMs - performance.now() : Infinity
  }

  /** Sends for these callers, and whatever waits behind them afterwards; false where there are none. */
  #send(group: Asking[]): boolean {
    if (group.length === 0) return false
    const subjects = group.flatMap(({ asked }) => asked.subject ?? [])
    for (const subject of subjects) this.#subjectsOnTheWay.add(subject)
    this.#onTheWay++
    this.onGroup?.(group.length)
    const settled = this.askFor(group).catch((error: unknown) => {
      // Whatever went wrong, nobody is left waiting for it.
      for (const { reject } of group) reject(error)
    })
    void settled.then(() => {
      this.#onTheWay--
      for (const subject of subjects) this.#subjectsOnTheWay.delete(subject)
      this.#soon()
    })
    return true
  }

  /** Callers with a subject of their own each, which nobody else is on the way with; who else waits stays for the next round. */
  #takeSome(most: number): Asking[] {
    const taken: Asking[] = []
    const left: Asking[] = []
    const subjects = new Set<string>()
    const lateSince = performance.now() - this.patienceMs
    for (const each of this.#waiting) {
      const { subject } = each.asked
      const isFree =
        subject === null ||
        (!subjects.has(subject) && (each.since <= lateSince || !this.#subjectsOnTheWay.has(subject)))
      if (subject !== null) subjects.add(subject)
      ;(isFree && taken.length < Math.min(most, this.mostCallers) ? taken : left).push(each)
    }
    this.#waiting = left
    return taken
  }

  /** The next callers ask alone. */
  protected wasRefused(): void {
    this.#pause = this.#nextPause
    this.#nextPause = Math.min(LONGEST_PAUSE, this.#nextPause * 2)
  }

  protected wentWell(): void {
    this.#nextPause = FIRST_PAUSE
  }
}

export async function askAlone(group: readonly Asking[]): Promise<void> {
  await Promise.all(group.map(({ asked, resolve, reject }) => asked.alone().then(resolve, reject)))
}
