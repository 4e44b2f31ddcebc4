import { createHash } from 'node:crypto'
import { LRUCache } from 'lru-cache'
import { isProblem } from '@ledgerman/contract'

/** After how long a thing is read again, in milliseconds: an alteration is noticed by then at the latest. */
const READING_AGE_MS = 10_000

/** For how long a thing that is known is read again before the old reading is taken, in milliseconds. */
const REREAD_MS = 100

/** The same where a refusal goes by it, in milliseconds: whoever has just altered a table is not to be told what is no longer so. */
const LOOK_AGAIN_MS = 1_000

/** How many things one look at what a caller used reads again at most: those used last. */
const MOST_LOOKED_AT = 200

/** Moments are in milliseconds of `performance.now`, as all moments here: the clock may be set. */
interface Kept<Thing> {
  thing: Thing
  digest: string
  readAt: number
  usedAt: number
  /** When it was read as another than before; -Infinity where it never was. */
  changedAt: number
}

interface Reading<Thing> {
  begunAt: number
  read: Promise<Thing | undefined>
}

/**
 * Things that are read by their names and kept for some seconds. Everybody who asks for one while it is being read gets that reading. It is
 * the same object as long as nothing was altered: what is built on it is kept by that object.
 */
export class KeptReadings<Thing extends object> {
  readonly #kept: LRUCache<string, Kept<Thing>>
  #reading = new Map<string, Reading<Thing>>()
  /** When one that was known was last found to be gone, in milliseconds of `performance.now`, as all moments here: the clock may be set. */
  #goneAt = -Infinity

  constructor(
    most: number,
    /** Undefined where there is none of that name. */
    readonly readThing: (name: string) => Promise<Thing | undefined>,
    /** What of a thing changes all the time, and makes no other thing of it. */
    readonly figuresOf: (thing: Thing) => Partial<Thing>,
  ) {
    this.#kept = new LRUCache({ max: most })
  }

  /** What is known and not too old. */
  fresh(name: string): Thing | undefined {
    const known = this.#kept.get(name)
    if (!known) return undefined
    const now = performance.now()
    const age = now - known.readAt
    if (age >= READING_AGE_MS) return undefined
    // One that is in use is read again before its time is over, so that nobody waits for it.
    if (age >= READING_AGE_MS / 2 && !this.#reading.has(name)) this.#read(name).catch(() => undefined)
    known.usedAt = now
    return known.thing
  }

  /** Undefined where there is none. @throws what reading it fails with */
  async get(name: string): Promise<Thing | undefined> {
    const fresh = this.fresh(name)
    if (fresh) return fresh
    const reading = this.#reading.get(name)?.read ?? this.#read(name)
    const old = this.#kept.get(name)
    // What was forgotten is read again, whatever it takes; what has only grown old serves while somebody holds the table.
    const thing = await (old && old.readAt > -Infinity ? orMeanwhile(reading, old.thing) : reading)
    const known = this.#kept.get(name)
    if (known) known.usedAt = performance.now()
    return thing
  }

  /** As `get`, read afresh whatever is known: for those who look at something that they may just have altered. */
  now(name: string): Promise<Thing | undefined> {
    const reading = this.#read(name)
    const old = this.#kept.get(name)
    return old ? orMeanwhile(reading, old.thing) : reading
  }

  /**
   * Reads again what was used since that moment.
   *
   * @param since milliseconds of `performance.now`
   * @returns whether some of it was altered since; false where that cannot be found out
   */
  async lookAgain(since: number): Promise<boolean> {
    const used = [...this.#kept.entries()].filter(([, { usedAt }]) => usedAt >= since).slice(0, MOST_LOOKED_AT)
    const looks = used.map(async ([name, { thing }]) => {
      const underWay = this.#reading.get(name)
      const reading = underWay && underWay.begunAt >= since ? underWay.read : this.#read(name)
      await orMeanwhile(reading, thing, LOOK_AGAIN_MS).catch(() => undefined)
      return (this.#kept.get(name)?.changedAt ?? -Infinity) >= since
    })
    return (await Promise.all(looks)).includes(true) || this.#goneAt >= since
  }

  /** Has everything read again when it is next asked for. */
  forget(): void {
    for (const known of this.#kept.values()) known.readAt = -Infinity
    // A reading that is on its way may have begun before the alteration.
    this.#reading = new Map()
  }

  /** Keeps the object of before where nothing was altered, so that what was built on it stays of use. */
  keep(name: string, thing: Thing): Thing {
    const figures = this.figuresOf(thing)
    const lasting = Object.entries(thing).filter(([member]) => !Object.hasOwn(figures, member))
    const digest = createHash('sha256').update(JSON.stringify(lasting)).digest('base64')
    const known = this.#kept.get(name)
    const now = performance.now()
    if (known?.digest === digest) {
      known.readAt = now
      Object.assign(known.thing, figures)
      return known.thing
    }
    this.#kept.set(name, {
      thing,
      digest,
      readAt: now,
      usedAt: known?.usedAt ?? -Infinity,
      changedAt: known ? now : -Infinity,
    })
    return thing
  }

  #read(name: string): Promise<Thing | undefined> {
    const all = this.#reading
    const read = this.readThing(name)
      .then((thing) => {
        if (thing) return all === this.#reading ? this.keep(name, thing) : thing
        if (this.#kept.delete(name)) this.#goneAt = performance.now()
        return undefined
      })
      .finally(() => all.get(name) === reading && all.delete(name))
    const reading = { begunAt: performance.now(), read }
    all.set(name, reading)
    return read
  }
}

/** What was asked for, or what stands in for it where it takes too long or fails for being waited for. */
async function orMeanwhile<T>(asked: Promise<T>, meanwhile: T, patienceMs = REREAD_MS): Promise<T> {
  let timer: NodeJS.Timeout | undefined
  const late = new Promise<T>((resolve) => (timer = setTimeout(resolve, patienceMs, meanwhile)))
  const answered = asked.catch((error: unknown) => {
    if (isProblem(error, 'lock-timeout', 'time-limit')) return meanwhile
    throw error
  })
  try {
    return await Promise.race([answered, late])
  } finally {
    clearTimeout(timer)
    answered.catch(() => undefined)
  }
}
