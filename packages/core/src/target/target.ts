import { isProblem, LedgermanProblem, parseTablePath, toTablePath, type TablePath } from '@ledgerman/contract'
import type { Table } from '../mapping/catalogue/table.js'
import type { Statement } from '../statement/statement.js'
import type { ErrorContext } from './problem/error-context.js'
import { isConnectionError } from '../sessions/connection-error.js'
import { isStalePlan, mayBeOutdated } from '../sessions/database-error.js'
import { translateError } from './problem/translate-error.js'
import { connectionBroke } from '../sessions/connection-problem.js'
import { findTableHolders } from '../sessions/find-holders.js'
import { lockTimeout } from '../sessions/lock-timeout.js'
import { TABLE_PATHS_SQL } from '../mapping/catalogue/read-catalogue.js'
import type { SessionWatch, TargetActivity } from '../sessions/activity.js'
import { KnownCatalogue } from '../mapping/catalogue/known-catalogue.js'
import type { Queryable, Rows } from '../sessions/queryable.js'
import { SharedStatement, type SharedStatementOptions } from '../sessions/sharing/shared-statement.js'
import { StatementsInTurn } from '../sessions/sharing/statements-in-turn.js'
import { isMissingBook, KnownBook } from './known-book.js'
import { callerGone, Reader, within } from './reader.js'
import { openOwnSession, type OwnSession } from '../sessions/own-session.js'
import type { PoolOptions, Session, SessionPool } from '../sessions/session-pool.js'
import { isUnusable, isWorthAnother } from '../sessions/session-pool.js'
import { SessionPools } from './session-pools.js'
import { TurnQueue } from '../sessions/sharing/turn-queue.js'
import { DEFAULT_LIMITS, writingLimits, type SessionLimits } from '../sessions/session-settings.js'

export interface TargetOptions {
  name: string
  /** A PostgreSQL connection address, `postgres://…`. */
  url: string
  /** Sessions at most, and as many again that only read. @default 10 */
  connections?: number
  limits?: Partial<SessionLimits>
  /** Prepare statements on the server, once a session. Turn off behind a proxy that does not pass them on. @default true */
  prepareStatements?: boolean
  /** The key that digests of sensitive values are made with. */
  digestKey: Buffer
  /** Told of sessions that broke while idle. */
  onSessionError?: (error: Error) => void
  activity?: TargetActivity
}

/** For how long `close` waits for sessions that are on loan, in milliseconds. */
const CLOSE_LIMIT_MS = 5_000

/** How many callers of one record wait for it in the database at once; the others stand in line. */
const AT_ONE_RECORD = 2

/** A PostgreSQL database whose records are worked on: its sessions, its catalogue, its book. */
export class Target implements Queryable {
  readonly name: string
  readonly digestKey: Buffer
  readonly limits: SessionLimits
  readonly activity: TargetActivity
  readonly #pools: SessionPools
  readonly #sessionOptions: Omit<PoolOptions, 'most'>
  #exports = 0
  /** Callers who change one and the same record, each by itself. */
  readonly recordTurns = new TurnQueue(AT_ONE_RECORD)
  /** Runs of one and the same transaction, each by itself: at most half of the sessions. */
  readonly runTurns: TurnQueue
  readonly #catalogue: KnownCatalogue
  readonly #book = new KnownBook((text) => this.readBook(text))
  readonly #shared = new WeakMap<Statement, SharedStatement>()
  readonly #inTurn = new WeakMap<Statement, StatementsInTurn>()

  constructor(options: TargetOptions) {
    this.name = options.name
    this.digestKey = options.digestKey
    this.activity = options.activity ?? {}
    this.limits = { ...DEFAULT_LIMITS, ...options.limits }
    this.#catalogue = new KnownCatalogue(
      this.name,
      (text, values, name) => this.#readCatalogue(text, values, name),
      this.read.bind(this),
      this.explain.bind(this),
    )
    this.runTurns = new TurnQueue(Math.max(2, Math.floor((options.connections ?? 10) / 2)))
    const pool = {
      name: options.name,
      url: options.url,
      application: `ledgerman ${options.name}`,
      most: options.connections ?? 10,
      limits: this.limits,
      prepareStatements: options.prepareStatements ?? true,
      onSessionError: (error: Error) => {
        // What broke off the sessions may have put another database in the place of this one.
        this.forgetBook()
        options.onSessionError?.(error)
      },
    }
    this.#pools = new SessionPools(pool)
    this.#sessionOptions = { ...pool, onNoneLeft: () => this.#pools.makeRoom() }
  }

  query(
    text: string,
    values: readonly (string | null)[] = [],
    name?: string,
    onStart?: (pid: number) => void,
  ): Promise<Rows> {
    return this.#pools.write.query(text, values, name, { onStart })
  }

  /** Runs one statement that is given up when its answer takes longer, in milliseconds. */
  queryWithin({ limitMs }: { limitMs: number }, text: string, values: readonly (string | null)[] = []): Promise<Rows> {
    return this.#pools.write.query(text, values, undefined, { limitMs })
  }

  /** Looks who waits for whom, or cancels: in a session that is there when all others wait. */
  control(text: string, values: readonly (string | null)[] = [], name?: string): Promise<Rows> {
    return this.#pools.control.query(text, values, name)
  }

  /** How many sessions there are, on loan, and waited for, by what they are for. */
  get sessionCounts() {
    return this.#pools.counts
  }

  /**
   * Runs a statement that is a whole transaction of its own, after others like it where enough of those run already.
   *
   * @param watch begun with the server's process; the session is kept until what it began has settled.
   */
  async runAlone(
    text: string,
    values: readonly (string | null)[],
    name: string | undefined,
    watch: (pid: number) => SessionWatch,
  ): Promise<Rows> {
    const session = await this.session()
    const watching = watch(session.pid)
    let isBroken = false
    try {
      return await session.query(text, values, name)
    } catch (error) {
      isBroken = isUnusable(error)
      throw error
    } finally {
      watching.end()
      await watching.settled
      session.release(isBroken || watching.hasCancelled)
    }
  }

  /** The statement as callers of this target share it; made when first asked for. */
  shared(statement: Statement, options: Pick<SharedStatementOptions, 'answers' | 'isRead'>): SharedStatement {
    let shared = this.#shared.get(statement)
    if (!shared) {
      const send: SharedStatementOptions['send'] = (...args) => this.query(...args)
      this.#shared.set(statement, (shared = new SharedStatement({ statement, send, ...options })))
      shared.onGroup = this.activity.grouped
    }
    return shared
  }

  /** The statement as callers of this target who meet at the same rows send it; made when first asked for. */
  inTurn(statement: Statement): StatementsInTurn {
    let inTurn = this.#inTurn.get(statement)
    if (!inTurn) {
      this.#inTurn.set(statement, (inTurn = new StatementsInTurn(statement, () => this.session(), this.limits)))
      inTurn.onGroup = this.activity.grouped
    }
    return inTurn
  }

  /** Runs a statement that changes nothing; a session that turns out to be of no more use is replaced once. */
  async read(text: string, values: readonly (string | null)[] = [], name?: string): Promise<Rows> {
    try {
      return await this.query(text, values, name)
    } catch (error) {
      if (!isWorthAnother(error)) throw error
      return this.query(text, values, isStalePlan(error) ? undefined : name).catch((again: unknown) => {
        throw isConnectionError(again) ? connectionBroke(this.name, again) : again
      })
    }
  }

  /**
   * Runs one statement in a session that can only read. When `signal` fires, the statement is cancelled in the database.
   *
   * @throws LedgermanProblem cancelled; target-unavailable where a session broke twice.
   */
  async readOnly(text: string, values: readonly (string | null)[], signal?: AbortSignal, name?: string): Promise<Rows> {
    const once = (preparedName?: string) =>
      this.inReader(signal, (session) => session.query(text, values, preparedName))
    try {
      return await once(name)
    } catch (error) {
      if (!isWorthAnother(error) || signal?.aborted) throw error
      return once()
    }
  }

  /** Reads the book so, in a session in which no name means anything but PostgreSQL's own. */
  async readBook(text: string, values: readonly (string | null)[] = [], signal?: AbortSignal): Promise<Rows> {
    const once = () => within(this.#lendReader(this.#pools.book, signal), (session) => session.query(text, values))
    return once().catch((error: unknown) => {
      if (!isWorthAnother(error) || signal?.aborted) throw error
      return once()
    })
  }

  /** Runs `work` in a session that can only read. @throws LedgermanProblem cancelled, and what `work` throws */
  inReader<T>(signal: AbortSignal | undefined, work: (session: Queryable) => Promise<T>): Promise<T> {
    return within(this.openReader(signal), work)
  }

  /** Lends a session that can only read; `close` has to follow. @throws LedgermanProblem cancelled where `signal` has fired */
  openReader(signal: AbortSignal | undefined): Promise<Reader> {
    return this.#lendReader(this.#pools.read, signal)
  }

  async #lendReader(pool: SessionPool, signal: AbortSignal | undefined): Promise<Reader> {
    if (signal?.aborted) throw callerGone(signal.reason)
    const session = await pool.lend()
    // It may have fired while a session was waited for.
    if (!signal?.aborted) return new Reader(session, this, signal)
    session.release()
    throw callerGone(signal.reason)
  }

  /**
   * Opens a session that belongs to one long task: it takes none of those that others wait for. `close` has to follow.
   *
   * @param timeLimitMs of each statement.
   * @throws LedgermanProblem target-unavailable, target-denied
   */
  openOwnSession(timeLimitMs: number, what: string, settings: Record<string, string> = {}): Promise<OwnSession> {
    const options = { ...this.#sessionOptions, onOverdue: (pid: number) => this.#pools.cancel(pid) }
    const limits = writingLimits({ ...this.limits, timeLimitMs })
    return openOwnSession(
      { ...options, application: `${options.application} ${what}`, limits, settings },
      this.#pools.write,
    )
  }

  /**
   * Takes one of the places for exports: each keeps a session for as long as its reader takes, and others want to read too.
   *
   * @returns what gives the place back.
   * @throws LedgermanProblem too-many-requests
   */
  beginExport(): () => void {
    const most = Math.max(1, Math.floor(this.#pools.read.counts.most / 2))
    if (this.#exports >= most)
      throw new LedgermanProblem(
        'too-many-requests',
        `${most} exports of ${this.name} are going on already. Wait for one of them to end.`,
        { target: this.name },
      )
    this.#exports++
    let isOver = false
    return () => {
      if (!isOver) this.#exports--
      isOver = true
    }
  }

  /** Cancels what runs in a session; the caller has to hold that session until this is done. @returns whether the cancel was sent */
  cancel(pid: number): Promise<boolean> {
    return this.#pools.cancel(pid)
  }

  /** The same where nobody waits for it any more: where no cancel can be sent, as there is no session left, its connection is broken off. */
  async giveUp(session: { readonly pid: number; breakOff(): void }): Promise<void> {
    if (!(await this.cancel(session.pid))) session.breakOff()
  }

  /** @throws LedgermanProblem target-unavailable or target-denied where no session can be had. */
  session(): Promise<Session> {
    return this.#pools.write.lend()
  }

  /**
   * The table of that path as the catalogue describes it. Kept until `forgetCatalogue`.
   *
   * @throws LedgermanProblem not-found
   */
  table(path: string): Promise<Table> {
    return this.#tableBy(() => this.#catalogue.table(path), path)
  }

  /** The same as it is now: read afresh. @throws LedgermanProblem not-found */
  tableNow(path: string): Promise<Table> {
    return this.#tableBy(() => this.#catalogue.tableNow(path), path)
  }

  async #tableBy(read: () => Promise<Table>, path: string): Promise<Table> {
    try {
      return await read()
    } catch (error) {
      throw await this.#withHolders(error, parseTablePath(path))
    }
  }

  /** A read waits for nobody but who has locked the whole table: says who that is, where it waited for too long. */
  async #withHolders(error: unknown, table: TablePath): Promise<unknown> {
    if (!isProblem(error, 'lock-timeout')) return error
    const holders = await findTableHolders(this, table).catch(() => [])
    return lockTimeout(error, holders, this.limits.lockWaitMs)
  }

  /** The type of that name, such as `numeric` or `text[]`; undefined where there is none. Kept as tables are. */
  type(name: string): ReturnType<KnownCatalogue['type']> {
    return this.#catalogue.type(name)
  }

  /** The paths of every table, view and the like, in order. */
  async tablePaths(): Promise<string[]> {
    const { rows } = await this.#readCatalogue(TABLE_PATHS_SQL).catch((error: unknown) => {
      throw this.explain(error)
    })
    return rows.map(([schema, name]) => toTablePath(schema ?? '', name ?? ''))
  }

  async #readCatalogue(text: string, values: readonly (string | null)[] = [], name?: string): Promise<Rows> {
    const once = () => this.#pools.catalogue.query(text, values, name)
    return once().catch((error: unknown) => {
      if (!isUnusable(error)) throw error
      return once()
    })
  }

  /** Every table, view and the like, read afresh. */
  tables(): Promise<Table[]> {
    return this.#catalogue.tables()
  }

  /** Reads again what was used of the catalogue since then, in milliseconds of `performance.now`. @returns whether some of it was altered */
  lookAgain(since: number): Promise<boolean> {
    return this.#catalogue.lookAgain(since)
  }

  /** Whether a statement failed so as it would where something was altered, and something was since then. */
  async isOutdated(error: unknown, since: number): Promise<boolean> {
    return mayBeOutdated(error) && !isMissingBook(error) && (await this.lookAgain(since))
  }

  /** Has the catalogue read again when it is next needed, for when a statement shows that a table has been altered. */
  forgetCatalogue(): void {
    this.#catalogue.forget()
  }

  /** Makes a problem of whatever went wrong; where a statement shows that a table was altered, the catalogue is read again. */
  explain(error: unknown, context: Omit<ErrorContext, 'target'> = {}): unknown {
    if (isMissingBook(error)) {
      this.forgetBook()
      return new LedgermanProblem(
        'book-not-prepared',
        `The book of ${this.name} is gone from the database. Prepare it again: ledgerman book prepare.`,
        { target: this.name },
        { cause: error },
      )
    }
    const explained = translateError(error, { target: this.name, ...this.limits, ...context })
    // What does not fit may have fitted before the table was altered.
    if (isProblem(explained, 'definition-invalid', 'target-denied') || mayBeOutdated(error)) this.forgetCatalogue()
    return explained
  }

  /** The same of a read of the mapping's records. */
  explainRead(
    error: unknown,
    context: Omit<ErrorContext, 'target'> & Required<Pick<ErrorContext, 'mapping'>>,
  ): Promise<unknown> {
    return this.#withHolders(this.explain(error, context), context.mapping.table)
  }

  isBookPrepared(): Promise<boolean> {
    return this.#book.isPrepared()
  }

  /** @throws LedgermanProblem book-not-prepared: nothing can be committed without one */
  async assertBook(): Promise<void> {
    if (await this.isBookPrepared()) return
    throw new LedgermanProblem(
      'book-not-prepared',
      `The target ${this.name} has no book yet, or one of an earlier version, so nothing can be committed to it. Have it prepared: ledgerman book prepare, or POST /v1/targets/${this.name}/book.`,
      { target: this.name },
    )
  }

  /** For when a statement shows that the book is gone. */
  forgetBook(): void {
    this.#book.forget()
  }

  /** Statements whose text is known to stand in the book. */
  get knownStatements() {
    return this.#book.statements
  }

  /** Ends every session: those on loan when they come back, or when the time is over, in milliseconds. */
  async close(limitMs = CLOSE_LIMIT_MS): Promise<void> {
    await this.#pools.close(limitMs)
  }
}
