import { LRUCache } from 'lru-cache'

interface Kept<T> {
  answer: Promise<T>
  /** Milliseconds of `performance.now`. */
  askedAt: number
  isAskedAgain: boolean
}

/**
 * Answers of the home database that hold for a moment. All who ask for the same share one question, and what is asked for again and again
 * is asked again before its time is over, so that nobody waits for it: with many callers each of them did, once a second.
 */
export class KeptAnswers<T> {
  readonly #kept: LRUCache<string, Kept<T>>

  /**
   * @param most how many are kept
   * @param keepMs how old an answer may be, in milliseconds, from when it was asked for
   * @param isKept whether an answer is kept once it is there
   */
  constructor(
    most: number,
    readonly keepMs: number,
    readonly isKept: (answer: T) => boolean = () => true,
  ) {
    this.#kept = new LRUCache({ max: most })
  }

  /** @throws what `ask` throws; that is not kept */
  get(key: string, ask: () => Promise<T>): Promise<T> {
    const kept = this.#kept.get(key)
    const age = kept ? performance.now() - kept.askedAt : Infinity
    if (!kept || age >= this.keepMs) return this.#ask(key, ask)
    if (age >= this.keepMs / 2 && !kept.isAskedAgain) {
      kept.isAskedAgain = true
      this.#askAgain(key, ask, kept)
    }
    return kept.answer
  }

  delete(key: string): void {
    this.#kept.delete(key)
  }

  clear(): void {
    this.#kept.clear()
  }

  #ask(key: string, ask: () => Promise<T>): Promise<T> {
    const kept = { answer: ask(), askedAt: performance.now(), isAskedAgain: false }
    this.#kept.set(key, kept)
    const forget = () => {
      if (this.#kept.peek(key) === kept) this.#kept.delete(key)
    }
    kept.answer.then((answer) => this.isKept(answer) || forget(), forget)
    return kept.answer
  }

  #askAgain(key: string, ask: () => Promise<T>, old: Kept<T>): void {
    const askedAt = performance.now()
    const answer = ask()
    answer.then(
      (found) => {
        // Whoever made it out of date meanwhile has it forgotten.
        if (this.#kept.peek(key) !== old) return
        if (this.isKept(found)) this.#kept.set(key, { answer, askedAt, isAskedAgain: false })
        else this.#kept.delete(key)
      },
      // The answer there is holds for its time.
      () => undefined,
    )
  }
}
