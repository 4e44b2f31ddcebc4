import { isConnectionError } from '../connection-error.js'
import { isStalePlan } from '../database-error.js'
import { askAlone, Gathering, type Asking } from './gathering.js'
import type { SessionLimits } from '../session-settings.js'
import type { NamedText } from '../queryable.js'
import type { Session } from '../session-pool.js'

const MOST_CALLERS = 16
const PATIENCE_MS = 100

/** How many groups stand behind one another in the session at most; whoever comes after them asks alone. */
const MOST_GROUPS = 3

/**
 * How long a group waits for a lock that somebody else holds, and for one statement, in milliseconds: far longer than a run's statement
 * takes, and far shorter than a caller may wait alone.
 */
const LOCK_WAIT_MS = 20
/** How long a group waits for one of another service: two that lock rows crosswise would stand in each other's way. */
const TURN_WAIT_MS = 100
const STATEMENT_MS = 100

/**
 * A statement that callers who ask at the same time send one after the other in one session and one transaction, committed once for
 * all of them (group commit). It is for callers who meet at the same rows: each finds the rows as the one before left them, and
 * nobody waits for another's commit. Where anything fails nothing is left of the group, and everybody in it asks alone.
 */
export class StatementsInTurn extends Gathering {
  /** The session that groups queue up in, for as long as there are any. */
  #queue: Queue | undefined
  readonly #begin: string

  constructor(
    readonly statement: NamedText,
    readonly openSession: () => Promise<Session>,
    limits: SessionLimits,
  ) {
    super(MOST_CALLERS, PATIENCE_MS)
    const lockWait = (ms: number) => `set local lock_timeout = ${Math.min(ms, limits.lockWaitMs || Infinity)}`
    this.#begin = [
      'begin',
      lockWait(TURN_WAIT_MS),
      `select pg_catalog.pg_advisory_xact_lock(pg_catalog.hashtextextended('${statement.name}', 0))`,
      lockWait(LOCK_WAIT_MS),
      `set local statement_timeout = ${Math.min(STATEMENT_MS, limits.timeLimitMs || Infinity)}`,
    ].join('; ')
  }

  protected async askFor(group: readonly Asking[]): Promise<void> {
    const queue = (this.#queue ??= { session: this.openSession(), groups: 0, isUsable: true, turn: Promise.resolve() })
    if (queue.groups === MOST_GROUPS) return askAlone(group)
    queue.groups++
    const before = queue.turn
    let sent = () => {}
    queue.turn = new Promise<void>((resolve) => (sent = resolve))
    const error = await queue.session
      .then(async (session) => {
        await before
        return this.#askIn(session, group, sent, queue)
      })
      .then(
        () => null,
        (reason: unknown) => reason,
      )
    sent()
    const isLost = isConnectionError(error)
    queue.isUsable &&= !isLost && !isStalePlan(error)
    this.#leave(queue)
    if (error === null) return this.wentWell()
    this.wasRefused()
    // Nobody knows what became of a transaction whose connection broke: each caller finds out for themselves.
    if (isLost) for (const { reject } of group) reject(error)
    else await askAlone(group)
  }

  /**
   * Answers everybody once all of them are committed. Their statements go out only when BEGIN was answered: behind one that was
   * cancelled each would be a transaction of its own.
   *
   * @param sent called when the next group may begin behind this one
   * @throws what stood in the way: then nobody has an answer
   */
  async #askIn(session: Session, group: readonly Asking[], sent: () => void, queue: Queue): Promise<void> {
    const { text, name } = this.statement
    await session.query(this.#begin).catch(async (error: unknown) => {
      // A part of it may have been done.
      await session.query('rollback').catch(() => (queue.isUsable = false))
      throw error
    })
    const asked = [...group.map(({ values }) => session.query(text, values, name)), session.query('commit')]
    sent()
    const settled = await Promise.allSettled(asked)
    // A COMMIT without an answer of its own leaves the session in its transaction.
    if (settled.at(-1)?.status === 'rejected') queue.isUsable = false
    const failed = settled.find(({ status }) => status === 'rejected')
    if (failed?.status === 'rejected') throw failed.reason
    const answers = await Promise.all(asked)
    const committed = answers.pop()
    if (committed?.command !== 'COMMIT') throw new Error(`COMMIT was answered with ${committed?.command}.`)
    group.forEach(({ resolve }, at) => resolve(answers[at]?.rows ?? []))
  }

  #leave(queue: Queue): void {
    queue.groups--
    if (this.#queue === queue && (queue.groups === 0 || !queue.isUsable)) this.#queue = undefined
    if (queue.groups > 0) return
    void queue.session.then(
      (session) => session.release(!queue.isUsable),
      () => undefined,
    )
  }
}

interface Queue {
  session: Promise<Session>
  groups: number
  /** Whether others may still have it. */
  isUsable: boolean
  /** Resolves when all statements of the groups so far are on their way. */
  turn: Promise<void>
}
