import type { Readable } from 'node:stream'
import { pipeline } from 'node:stream/promises'
import { setTimeout as delay } from 'node:timers/promises'
import pg from 'pg'
import { from as copyFrom, to as copyTo } from 'pg-copy-streams'
import { limitAnswers } from './answer-limit.js'
import { hasNoSessionLeft } from './database-error.js'
import { translateConnectionError } from './connection-problem.js'
import type { Queryable, Rows } from './queryable.js'
import { orCancelled } from './overdue.js'
import { DRIVER_PATIENCE_MS, type PoolOptions } from './session-pool.js'
import { beginSession, hasRefusedOptions, startupOptions } from './session-settings.js'

/** A session that belongs to one long task alone: beside all pools, so that nobody waits for it. It can send and take rows as a stream. */
export interface OwnSession extends Queryable {
  readonly pid: number
  /** Sends rows in COPY's text format to the `COPY … FROM STDIN` that `text` is. */
  copyIn(text: string, rows: AsyncIterable<Buffer | string>): Promise<void>
  /** The bytes that the `COPY … TO STDOUT` that `text` is gives. */
  copyOut(text: string): Readable
  /** Breaks the connection off: whatever it runs is given up by the server. */
  breakOff(): void
  /** Ends it; by force where the server does not answer. */
  close(): Promise<void>
}

const CONNECT_LIMIT_MS = 3_000
/** How long it pauses before it asks again, where the server gives no more sessions. */
const FULL_PAUSE_MS = 100
const CLOSE_LIMIT_MS = 2_000

type OwnClient = pg.Client & { processID?: number; connection: { stream: { destroy(): void } } }

/**
 * Opens a session of its own.
 *
 * @param owner who the server's willingness to log tersely is remembered for.
 * @throws LedgermanProblem target-unavailable or target-denied where none can be had.
 */
export async function openOwnSession(options: Omit<PoolOptions, 'most'>, owner: object): Promise<OwnSession> {
  const client = await connect(options, owner)
  const { timeLimitMs } = options.limits
  const patienceMs = timeLimitMs === 0 ? 0 : timeLimitMs + DRIVER_PATIENCE_MS
  const pid = client.processID ?? 0
  const answer = limitAnswers(client)
  const cancelOverdue = () => void options.onOverdue?.(pid)
  return {
    pid,
    query: (text, values = []) => {
      answer.begin(options.limits.answerBytes)
      const query = { text, values: values as (string | null)[], rowMode: 'array' } as pg.QueryArrayConfig
      if (patienceMs === 0) return client.query(query) as Promise<Rows>
      const limited = { ...query, query_timeout: patienceMs } as pg.QueryArrayConfig
      return orCancelled(patienceMs, cancelOverdue, () => client.query(limited)) as Promise<Rows>
    },
    copyIn: async (text, rows) => {
      await pipeline(rows, client.query(copyFrom(text)))
    },
    copyOut: (text) => {
      // It is taken as it comes, and never held.
      answer.begin(Infinity)
      return client.query(copyTo(text))
    },
    breakOff: () => client.connection.stream.destroy(),
    close: () => endSession(client),
  }
}

/** Ends a session; by force where the server does not answer. */
export async function endSession(client: pg.Client): Promise<void> {
  const ended = client.end().catch(() => undefined)
  await Promise.race([ended, delay(CLOSE_LIMIT_MS, undefined, { ref: false })])
  ;(client as OwnClient).connection.stream.destroy()
}

async function connect(options: Omit<PoolOptions, 'most'>, owner: object): Promise<OwnClient> {
  const deadline = performance.now() + CONNECT_LIMIT_MS
  for (;;) {
    const sent = startupOptions(options)
    const client = new pg.Client({
      connectionString: options.url,
      connectionTimeoutMillis: CONNECT_LIMIT_MS,
      keepAlive: true,
      application_name: options.application,
      options: sent,
      types: { getTypeParser: () => (text: string) => text },
    } as pg.ClientConfig) as OwnClient
    // A session can break between two statements, when nobody is waiting for an answer: the next one meets it.
    client.on('error', () => undefined)
    try {
      await client.connect()
      await beginSession(client, options, owner)
      return client
    } catch (error) {
      client.connection.stream.destroy()
      if (hasRefusedOptions(error, options.url, sent)) continue
      if (!hasNoSessionLeft(error) || performance.now() > deadline) throw translateConnectionError(options.name, error)
      options.onNoneLeft?.()
      await delay(FULL_PAUSE_MS)
    }
  }
}
