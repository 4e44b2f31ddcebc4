import type { Response } from 'express'
import { LedgermanProblem } from '@ledgerman/contract'
import type { Reply, Route } from './route.js'

/** How long a call may take that says nothing of it, in milliseconds: longer than what it asks of the databases may take. */
export const DEFAULT_LONGEST_MS = 60_000

/** How long a call may take, in milliseconds; null for one that goes on for as long as its caller listens. */
export function longestOf({ longestMs }: Pick<Route, 'longestMs'>): number | null {
  return longestMs === undefined ? DEFAULT_LONGEST_MS : longestMs
}

/**
 * The end of a call: its caller has an answer by then, whatever became of it, and what still runs for it is cancelled. It is also the
 * end when the caller goes away.
 */
export class CallLimit {
  readonly #controller = new AbortController()
  readonly #longestMs: number | null

  constructor(
    readonly route: Pick<Route, 'method' | 'longestMs' | 'mayChange' | 'onlyTells'>,
    response: Response,
    /** Fires when the service stops. */
    stopping: AbortSignal,
  ) {
    this.#longestMs = longestOf(route)
    const breakOff = () => response.destroy()
    if (route.onlyTells) stopping.addEventListener('abort', breakOff, { once: true })
    response.once('close', () => {
      if (route.onlyTells) stopping.removeEventListener('abort', breakOff)
      if (!response.writableFinished) this.#controller.abort(new Error('The caller went away.'))
    })
    // It may have gone while its token and body were read.
    if (response.closed) this.#controller.abort(new Error('The caller went away.'))
  }

  get signal(): AbortSignal {
    return this.#controller.signal
  }

  /** What the handler answers, or that the time is over. */
  async within(handled: Promise<Reply>): Promise<Reply> {
    const longestMs = this.#longestMs
    if (longestMs === null) return handled
    let timer: NodeJS.Timeout | undefined
    const over = new Promise<never>((_, reject) => {
      timer = setTimeout(() => {
        reject(this.#isOver(longestMs))
        this.#controller.abort(new Error('The time of the call is over.'))
      }, longestMs)
    })
    try {
      return await Promise.race([handled, over])
    } finally {
      clearTimeout(timer)
      // Whoever lost the race has nobody to tell.
      handled.catch(() => undefined)
      over.catch(() => undefined)
    }
  }

  #isOver(longestMs: number): LedgermanProblem {
    const seconds = longestMs / 1000
    return this.route.mayChange === true
      ? new LedgermanProblem(
          'outcome-unknown',
          `The call took longer than ${seconds} s and was given up. Whether it changed anything is not known: look for its entry in the book.`,
          { longestMs },
        )
      : new LedgermanProblem('time-limit', `The call took longer than ${seconds} s and was given up.`, { longestMs })
  }
}
