import { randomBytes } from 'node:crypto'
import { setTimeout as delay } from 'node:timers/promises'
import pg from 'pg'
import { LedgermanProblem } from '@ledgerman/contract'
import { connectionReason, FORM_OPTIONS } from '@ledgerman/core'
import { HOME_STEPS } from './home-schema.js'

const CONNECT_LIMIT_MS = 1_500
const QUERY_LIMIT_MS = 5_000
const CLOSE_LIMIT_MS = 5_000
const SETUP_LOCK = 4_680_200

/** Runs a statement in a transaction of the home database. */
export type HomeQuery = <Row extends pg.QueryResultRow>(text: string, values?: unknown[]) => Promise<Row[]>

/** The database that holds definitions, tokens and sessions. Any number of services may share one. */
export class HomeDatabase {
  readonly #pool: pg.Pool

  /** The trouble that was told last, until something works again. */
  #told: string | undefined
  readonly #unanswered = new WeakSet<Error>()

  /** @param onTrouble is told what is the matter, and why: once, until something works again. */
  constructor(
    url: string,
    connections: number,
    readonly onTrouble: (what: string, why: string) => void,
  ) {
    this.#pool = new pg.Pool({
      connectionString: url,
      max: connections,
      connectionTimeoutMillis: CONNECT_LIMIT_MS,
      query_timeout: QUERY_LIMIT_MS + 1_000,
      statement_timeout: QUERY_LIMIT_MS,
      application_name: 'ledgerman home',
      keepAlive: true,
      options: FORM_OPTIONS,
    })
    this.#pool.on('error', (error) => onTrouble('home session broke', error.message))
    // A session on loan can break between two statements, when nobody is waiting for an answer: the next one meets it.
    this.#pool.on('connect', (client) => client.on('error', () => undefined))
  }

  /** How many sessions there are, how many of them are on loan, and how many callers wait for one. */
  get counts(): { open: number; busy: number; waiting: number } {
    const { totalCount, idleCount, waitingCount } = this.#pool
    return { open: totalCount, busy: totalCount - idleCount, waiting: waitingCount }
  }

  /**
   * Sends a statement, and once more where the session breaks: one that writes has to come to the same when its first answer was lost.
   *
   * @throws LedgermanProblem target-unavailable where the home database cannot be reached.
   */
  async query<Row extends pg.QueryResultRow>(text: string, values: unknown[] = []): Promise<Row[]> {
    return (await this.#reached(() => this.#pool.query<Row>(text, values))).rows
  }

  /**
   * Runs `work` in one transaction.
   *
   * @throws LedgermanProblem target-unavailable where nothing of it stands; outcome-unknown where its commit was not answered
   */
  async transaction<T>(work: (query: HomeQuery) => Promise<T>): Promise<T> {
    const client = await this.#reached(() => this.#pool.connect())
    let isClean = false
    try {
      await client.query('begin')
      const result = await work(async (text, values = []) => (await client.query(text, values)).rows)
      await client.query('commit').catch((error: unknown) => {
        throw mayStand(error) ? outcomeUnknown(error) : error
      })
      isClean = true
      return result
    } catch (error) {
      throw isBroken(error) ? this.#unavailable(error) : error
    } finally {
      if (!isClean)
        isClean = await client.query('rollback').then(
          () => true,
          () => false,
        )
      client.release(!isClean)
    }
  }

  /**
   * Makes or completes what the home database holds. Services that start at once take turns.
   *
   * @throws Error that says why it cannot be used
   */
  async setUp(): Promise<void> {
    try {
      await this.#setUp()
    } catch (error) {
      const reason = connectionReason(error instanceof LedgermanProblem ? error.cause : error)
      throw new Error(`The home database (home.url in the configuration) cannot be used: ${reason}.`, { cause: error })
    }
  }

  #setUp(): Promise<void> {
    return this.transaction(async (query) => {
      await query('select pg_advisory_xact_lock($1)', [SETUP_LOCK])
      await query('create schema if not exists ledgerman_home')
      await query(
        'create table if not exists ledgerman_home.step (number integer primary key, done_at timestamptz not null default now())',
      )
      const [last] = await query<{ number: number }>(
        'select coalesce(max(number), 0) as number from ledgerman_home.step',
      )
      for (let number = (last?.number ?? 0) + 1; number <= HOME_STEPS.length; number++) {
        await query(HOME_STEPS[number - 1] ?? '')
        await query('insert into ledgerman_home.step (number) values ($1)', [number])
      }
    })
  }

  /** The key that digests of sensitive values are made with: made once, the same for every service on this home. */
  async digestKey(): Promise<Buffer> {
    await this.query(
      `insert into ledgerman_home.setting (name, value) values ('digest-key', $1) on conflict do nothing`,
      [randomBytes(32).toString('hex')],
    )
    const [row] = await this.query<{ value: string }>(
      `select value from ledgerman_home.setting where name = 'digest-key'`,
    )
    return Buffer.from(row?.value ?? '', 'hex')
  }

  /** Whether what failed with this may have been done all the same: it was sent, and its answer did not come. */
  mayBeDone(error: unknown): boolean {
    return error instanceof LedgermanProblem && this.#unanswered.has(error)
  }

  /** Ends every session: those on loan when they come back, or when the time is over. */
  async close(): Promise<void> {
    await Promise.race([this.#pool.end(), delay(CLOSE_LIMIT_MS, undefined, { ref: false })])
  }

  async #reached<T>(work: () => Promise<T>): Promise<T> {
    try {
      const result = await work()
      this.#told = undefined
      return result
    } catch (error) {
      // A session of before a restart of the database is found broken only when it is used; another one is tried once.
      if (!isBroken(error)) throw error
      return work().catch((again: unknown) => {
        if (!isBroken(again)) throw again
        const problem = this.#unavailable(again)
        if (!wasNeverSent(error) || !wasNeverSent(again)) this.#unanswered.add(problem)
        throw problem
      })
    }
  }

  /** The callers hear that it cannot be used; why, only the log says. */
  #unavailable(cause: unknown): LedgermanProblem {
    const reason = connectionReason(cause)
    if (reason !== this.#told) this.onTrouble('home database cannot be used', reason)
    this.#told = reason
    return new LedgermanProblem(
      'target-unavailable',
      "Ledgerman's home database cannot be reached or is out of resources. Try again when it is back.",
      { home: true },
      { cause },
    )
  }
}

/**
 * Whether the session broke or could not be had, or the server cannot work: every error but a problem of ours and a refusal of the
 * statement itself.
 */
function isBroken(error: unknown): boolean {
  if (error instanceof LedgermanProblem) return false
  const code = (error as { code?: string }).code
  return code === undefined || !/^[0-9A-Z]{5}$/.test(code) || /^(?:08|28|3D|40|53|57|58|XX)/.test(code)
}

/** Whether a commit that ended so may stand all the same: only what the server says of the transaction itself says that it does not. */
function mayStand(error: unknown): boolean {
  return isBroken(error) && !/^(?:40|53)...$/.test((error as { code?: string }).code ?? '')
}

function outcomeUnknown(cause: unknown): LedgermanProblem {
  return new LedgermanProblem(
    'outcome-unknown',
    "Ledgerman's home database broke while this was being kept: nobody can say now whether it was. When it is back, look whether it is there before you try again.",
    { home: true },
    { cause },
  )
}

/** By what is known that no session could be had, so that nothing was sent: of the network, of the server, and in the driver's words. */
const NO_SESSION_CODES = /^(?:ECONNREFUSED|ENOTFOUND|EAI_AGAIN|EHOSTUNREACH|ENETUNREACH|57P03|(?:28|3D|53)...)$/
const NO_SESSION_WORDS = ['timeout exceeded when trying to connect', 'Connection terminated due to connection timeout']

function wasNeverSent(error: unknown): boolean {
  const { code, message = '' } = error as { code?: string; message?: string }
  return code === undefined ? NO_SESSION_WORDS.includes(message) : NO_SESSION_CODES.test(code)
}
