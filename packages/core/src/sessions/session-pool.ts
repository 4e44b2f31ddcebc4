import type { Socket } from 'node:net'
import { setTimeout as delay } from 'node:timers/promises'
import pg from 'pg'
import { LedgermanProblem } from '@ledgerman/contract'
import { AnswerTooLarge, limitAnswers, type AnswerLimit } from './answer-limit.js'
import { isConnectionError } from './connection-error.js'
import { hasNoSessionLeft, isStalePlan } from './database-error.js'
import { translateConnectionError } from './connection-problem.js'
import { orCancelled } from './overdue.js'
import { PreparedNames } from './prepared-names.js'
import type { Queryable, Rows } from './queryable.js'
import { beginSession, hasRefusedOptions, startupOptions, type SessionOptions } from './session-settings.js'

/** A session on loan from the pool: hand it back with `release`, or have it destroyed. */
export interface Session extends Queryable {
  /** The server's process that serves it. */
  readonly pid: number
  /** Hands it back. One that is not clean, or still in a transaction, is destroyed instead. */
  release(destroy?: boolean): void
  /** Has it destroyed when it is handed back: a cancel that was sent may still come. */
  retire(): void
  /** Breaks the connection off, as a network or a machine does. */
  breakOff(): void
  /** How long an answer may take, in milliseconds, where other than the target's limits say: the connection is broken off then. */
  limitTo(limitMs: number): void
  /** How many bytes an answer may have, where other than the target's limits say. */
  takeUpTo(bytes: number): void
  /** Runs `work`; each answer may have so many bytes, and the connection is broken off beyond. */
  withinBytes<T>(most: number, work: () => Promise<T>): Promise<T>
}

export interface PoolOptions extends SessionOptions {
  /** Sessions at most. */
  most: number
  prepareStatements: boolean
  onSessionError?: ((error: Error) => void) | undefined
  /** The server gives no more sessions: whoever has idle ones may end some. */
  onNoneLeft?: (() => void) | undefined
  /** Cancels what a session runs that has not answered when its limit was over. */
  onOverdue?: ((pid: number) => Promise<unknown>) | undefined
}

/** How long opening a session, or waiting for a free one, may take, in milliseconds. */
const CONNECT_LIMIT_MS = 1_500

/** Where the server gives no more sessions: how long until the next one is asked for, and how long a caller pauses who has asked, in milliseconds. */
const MAKE_DO_MS = 300
const FULL_PAUSE_MS = 50

/** The server's own limits fire first; the driver's, so many milliseconds later, is for a server that no longer answers at all. */
export const DRIVER_PATIENCE_MS = 2_000

type Client = pg.PoolClient & { processID?: number; getTransactionStatus(): 'I' | 'T' | 'E' | null }

/** Sessions of one database that all begin with the same settings. */
export class SessionPool {
  readonly #pool: pg.Pool
  readonly #open = new Map<pg.PoolClient, AnswerLimit>()
  readonly #prepared: PreparedNames | undefined
  readonly #limitMs: number
  #making: NodeJS.Timeout | undefined
  /** Idle sessions that are about to be ended. */
  #ending = 0

  constructor(readonly options: PoolOptions) {
    this.#limitMs = options.limits.timeLimitMs + DRIVER_PATIENCE_MS
    this.#prepared = options.prepareStatements ? new PreparedNames() : undefined
    this.#pool = new pg.Pool({
      // Statements go out as they are asked for: BEGIN and what sets a transaction up share a round trip.
      pipeline: true,
      connectionString: options.url,
      max: options.most,
      connectionTimeoutMillis: CONNECT_LIMIT_MS,
      idleTimeoutMillis: 60_000,
      keepAlive: true,
      application_name: options.application,
      options: startupOptions(options),
      types: { getTypeParser: () => keepText },
      onConnect: (client: pg.ClientBase) => beginSession(client, options, this),
    } as pg.PoolConfig)
    this.#pool.on('error', (error) => options.onSessionError?.(error))
    this.#pool.on('connect', (client) => {
      this.#open.set(client, limitAnswers(client))
      // A session on loan can break between two statements, when nobody is waiting for an answer: the next one meets it.
      client.on('error', () => undefined)
    })
    this.#pool.on('remove', (client) => this.#open.delete(client))
  }

  /** How many sessions there are, how many of them are on loan, and how many callers wait for one. */
  get counts(): { open: number; busy: number; waiting: number; most: number } {
    const { totalCount, idleCount, waitingCount } = this.#pool
    return { open: totalCount, busy: totalCount - idleCount, waiting: waitingCount, most: this.options.most }
  }

  /** @throws LedgermanProblem target-unavailable or target-denied where no session can be had. */
  async lend(): Promise<Session> {
    // Counted from when the server first gave none: a caller who waited for a free one before does not pay for having asked.
    let deadline = Infinity
    for (;;) {
      const sent = this.#pool.options.options
      try {
        return this.#toSession((await this.#pool.connect()) as Client)
      } catch (error) {
        if (hasRefusedOptions(error, this.options.url, sent)) {
          this.#pool.options.options = undefined
          continue
        }
        if (!hasNoSessionLeft(error) || performance.now() > deadline)
          throw translateConnectionError(this.options.name, error, this.#open.size > 0)
        deadline = Math.min(deadline, performance.now() + CONNECT_LIMIT_MS)
        this.#makeDo()
        await delay(FULL_PAUSE_MS * (1 + Math.random()))
      }
    }
  }

  /** Ends an idle session, if there is one, so that the server can give another pool its place. */
  async endIdle(): Promise<void> {
    // More than are idle must not be asked for: new ones would be opened, in the places that were made.
    if (this.#pool.idleCount <= this.#ending) return
    this.#ending++
    try {
      // What comes is the idle one, unless a caller was quicker: then this waits in turn, and one is opened anew for the next caller.
      const client = await this.#pool.connect()
      client.release(true)
    } catch {
      // Nothing idles there any more.
    } finally {
      this.#ending--
    }
  }

  /** Asks for no more sessions than there are, for those can be waited for; after a while for one more, and so on. */
  #makeDo(): void {
    this.#pool.options.max = Math.max(1, this.#open.size)
    this.options.onNoneLeft?.()
    this.#making ??= setInterval(() => {
      this.#pool.options.max += 1
      if (this.#pool.options.max < this.options.most) return
      clearInterval(this.#making)
      this.#making = undefined
    }, MAKE_DO_MS).unref()
  }

  /** Runs one statement in a session that is lent for it. */
  async query(
    text: string,
    values: readonly (string | null)[] = [],
    name?: string,
    { onStart, limitMs }: { onStart?: ((pid: number) => void) | undefined; limitMs?: number } = {},
  ): Promise<Rows> {
    const session = await this.lend()
    if (limitMs !== undefined) session.limitTo(limitMs)
    try {
      onStart?.(session.pid)
      const rows = await session.query(text, values, name)
      session.release()
      return rows
    } catch (error) {
      session.release(isUnusable(error))
      throw error
    }
  }

  /** Ends every session: those on loan when they come back, or when the time is over, in milliseconds. */
  async close(limitMs: number): Promise<void> {
    clearInterval(this.#making)
    const ended = this.#pool.end()
    const isEnded = await Promise.race([ended.then(() => true), delay(limitMs, false, { ref: false })])
    if (isEnded) return
    for (const client of this.#open.keys()) socketOf(client).destroy()
  }

  #toSession(client: Client): Session {
    let limit = this.#limitMs
    let answerBytes = this.options.limits.answerBytes
    let isBack = false
    let isRetired = false
    const pid = client.processID ?? 0
    const answer = this.#open.get(client)
    const cancelOverdue = () => {
      isRetired = true
      void this.options.onOverdue?.(pid)
    }
    return {
      pid,
      limitTo(limitMs) {
        limit = limitMs
      },
      takeUpTo(bytes) {
        answerBytes = bytes
      },
      query: (text, values = [], name) => {
        const prepared = this.#prepared?.nameFor(client, name)
        answer?.begin(answerBytes)
        return orCancelled(limit, cancelOverdue, () =>
          client.query<(string | null)[]>({
            text,
            values: values as (string | null)[],
            rowMode: 'array',
            query_timeout: limit,
            ...(prepared === undefined ? {} : { name: prepared }),
          } as pg.QueryArrayConfig),
        )
      },
      release(destroy = false) {
        if (isBack) return
        isBack = true
        // A session that is still in a transaction would have the next caller answer for it.
        const isIdle = client.getTransactionStatus() === 'I'
        client.release(destroy || isRetired || !isIdle)
      },
      retire: () => void (isRetired = true),
      breakOff: () => void socketOf(client).destroy(),
      async withinBytes(most, work) {
        const before = answerBytes
        answerBytes = most
        try {
          return await work()
        } catch (error) {
          if (!(error instanceof AnswerTooLarge)) throw error
          throw new LedgermanProblem(
            'too-large',
            `The statement gave more than ${most} bytes, so it was broken off. Ask for fewer rows, or for less of each.`,
            { limitBytes: most },
            { cause: error },
          )
        } finally {
          answerBytes = before
        }
      },
    }
  }
}

/** Ends an idle session where most are idle: the server gives no more, and others wait. */
export function makeRoom(pools: readonly SessionPool[]): void {
  const idle = ({ counts }: SessionPool) => counts.open - counts.busy
  const [first] = [...pools].sort((one, other) => idle(other) - idle(one))
  void first?.endIdle()
}

/** Whether the session an error came from is better ended: it broke, or what it has prepared fits no more. */
export function isUnusable(error: unknown): boolean {
  return isConnectionError(error) || isStalePlan(error)
}

/** Whether another session may do better: not where it is the answer that is too large. */
export function isWorthAnother(error: unknown): boolean {
  return isUnusable(error) && !(error instanceof AnswerTooLarge)
}

function socketOf(client: pg.PoolClient): Socket {
  return (client as unknown as { connection: { stream: Socket } }).connection.stream
}

function keepText(text: string): string {
  return text
}
