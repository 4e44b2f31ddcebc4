import type { KeyObject } from 'node:crypto'
import type { Seal, SealFinding } from '@ledgerman/contract'
import { EMPTY_ROOT, whyNotSigned, type GrowingTree } from '@ledgerman/seal'

const MOST_NAMED = 20

/** Holds the roots of all seals against a tree as it grows: those of the book, one by one, and one that was kept outside. */
export class SealWatch {
  /** Gives the next seals of the book in order; none at their end. */
  more: () => Promise<Seal[]> = () => Promise.resolve([])
  /** The last seal that was read. */
  last: Seal | undefined
  #waiting: Seal[] = []
  /** Entries since the last root that held. */
  #since: { id: string | null; no: number }[] = []
  #sinceCount = 0
  #heldAt = 0
  #hasFailed = false
  #isBroken = false
  #isOutsideHeld = false

  constructor(
    readonly publicKey: KeyObject,
    readonly outside: Seal | undefined,
    readonly tell: (finding: SealFinding) => void,
  ) {}

  /** Reads the first seals, and holds those over nothing. */
  async begin(): Promise<void> {
    if (this.outside) {
      const why = whyNotSigned(this.outside, this.publicKey)
      if (why !== null)
        this.tell({ entry: null, what: 'altered', detail: `The seal that was given does not hold: ${why}.` })
      if (this.outside.entries === 0 && this.outside.root === EMPTY_ROOT.toString('hex')) this.#isOutsideHeld = true
    }
    await this.#next()
  }

  /** A place is missing: no root that is reached from here on says anything. */
  breakOff(): void {
    this.#hasFailed = true
    this.#isOutsideHeld = true
    this.#isBroken = true
  }

  /** The tree has one more leaf; `id` is its entry. */
  async added(tree: GrowingTree, id: string | null): Promise<void> {
    if (this.#isBroken) return
    this.#sinceCount++
    // Of those since the last root that held, ids that stand before a smaller one are not where they were sealed.
    this.#since.push({ id, no: tree.size - 1 })
    if (this.#since.length > 100_000) this.#since.splice(0, 50_000)
    while (this.#waiting[0] && this.#waiting[0].entries <= tree.size) {
      const seal = this.#waiting.shift() as Seal
      this.#hold(seal, tree)
      if (this.#waiting.length === 0) await this.#next()
    }
    const { outside } = this
    if (outside && outside.entries === tree.size) {
      this.#isOutsideHeld = true
      if (tree.root().toString('hex') !== outside.root)
        this.tell({
          entry: null,
          what: 'altered',
          detail: `The first ${outside.entries} entries of the book are not those under the seal that was given, of ${outside.at}.`,
        })
    }
  }

  /** All leaves were there. */
  end(size: number): void {
    for (const seal of this.#waiting.filter(({ entries }) => entries > size))
      this.tell({
        entry: null,
        what: 'missing',
        detail: `The seal of ${seal.at} is over ${seal.entries} entries; the book has places for ${size}.`,
      })
    if (this.outside && !this.#isOutsideHeld)
      this.tell({
        entry: null,
        what: 'missing',
        detail: `The seal that was given, of ${this.outside.at}, is over ${this.outside.entries} entries; the book has places for ${size}.`,
      })
  }

  async #next(): Promise<void> {
    this.#waiting = await this.more()
    this.last = this.#waiting.at(-1) ?? this.last
    for (const seal of this.#waiting) {
      const why = whyNotSigned(seal, this.publicKey)
      if (why !== null)
        this.tell({
          entry: null,
          what: 'altered',
          detail: `The seal of ${seal.at}, over ${seal.entries} entries, does not hold: ${why}.`,
        })
    }
    if (this.#waiting[0]?.entries === 0) this.#waiting.shift()
  }

  #hold(seal: Seal, tree: GrowingTree): void {
    if (tree.root().toString('hex') === seal.root) {
      this.#heldAt = seal.entries
      this.#since = []
      this.#sinceCount = 0
      return
    }
    // Once one root does not hold, no later one does.
    if (this.#hasFailed) return
    this.#hasFailed = true
    this.#tellRange(seal)
  }

  /** A root does not hold though its entries are those of their places: the places themselves were altered. */
  #tellRange(seal: Seal): void {
    const displaced = this.#since.filter(
      ({ id }, at) =>
        id !== null && this.#since.slice(at + 1, at + 1_000).some((later) => later.id !== null && later.id < id),
    )
    const range = `between places ${this.#heldAt} and ${seal.entries - 1}`
    if (displaced.length > 0) {
      for (const { id, no } of displaced.slice(0, MOST_NAMED))
        this.tell({
          entry: id,
          what: 'reordered',
          detail: `It stands at place ${no}, before an entry that it was sealed behind.`,
        })
      return
    }
    const named = this.#since.slice(-this.#sinceCount).slice(0, MOST_NAMED)
    const few = this.#sinceCount <= MOST_NAMED
    if (few && named.length > 0)
      for (const { id } of named)
        this.tell({
          entry: id,
          what: 'altered',
          detail: `It or another ${range} is not what was sealed: the root of the seal of ${seal.at} does not hold.`,
        })
    else
      this.tell({
        entry: null,
        what: 'altered',
        detail: `An entry ${range} is not what was sealed: the root of the seal of ${seal.at} does not hold.`,
      })
  }
}
