import { LedgermanProblem } from '@ledgerman/contract'
import type { Lookout, Queryable } from '../sessions/queryable.js'
import { isUnusable, type Session } from '../sessions/session-pool.js'

/**
 * A session that can only read, on loan. When the caller's signal fires, what runs in it is cancelled; the session is kept until the
 * cancel has been sent, and ended then, so that a late one can hit nobody else's statement.
 */
export class Reader {
  #cancelling: Promise<void> | undefined
  #isBroken = false
  readonly #cancel = () => {
    this.#cancelling = this.lookout.giveUp(this.session)
  }

  constructor(
    readonly session: Session,
    readonly lookout: Lookout,
    readonly signal: AbortSignal | undefined,
  ) {
    signal?.addEventListener('abort', this.#cancel, { once: true })
  }

  /** What to throw for an error of a statement in it. */
  failed(error: unknown): unknown {
    if (isUnusable(error)) this.#isBroken = true
    return this.signal?.aborted ? callerGone(error) : error
  }

  /** Hands the session back. */
  async close(): Promise<void> {
    this.signal?.removeEventListener('abort', this.#cancel)
    await this.#cancelling
    this.session.release(this.#isBroken || this.#cancelling !== undefined)
  }
}

/** Runs `work` in the session that is lent, and hands it back. */
export async function within<T>(lent: Promise<Reader>, work: (session: Queryable) => Promise<T>): Promise<T> {
  const reader = await lent
  try {
    return await work(reader.session)
  } catch (error) {
    throw reader.failed(error)
  } finally {
    await reader.close()
  }
}

export function callerGone(cause: unknown): LedgermanProblem {
  return new LedgermanProblem('cancelled', 'The caller went away, so the query was cancelled.', {}, { cause })
}
