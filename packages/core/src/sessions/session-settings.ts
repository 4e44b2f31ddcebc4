import type { ClientBase, QueryConfig, QueryResultRow } from 'pg'
import { isCancelled, isDatabaseError, isProtocolViolation, type DatabaseError } from './database-error.js'
import { learnTimeLimitWords } from './database-words.js'
import { assertSessionsLast, type SessionAddress } from './lasting-sessions.js'

/** How long things may take in a target's sessions, in milliseconds. */
export interface SessionLimits {
  /** Waiting for a lock. */
  lockWaitMs: number
  /** One statement. */
  timeLimitMs: number
  /** A transaction in which nothing is asked. */
  idleMs: number
  /** An answer of the server's: it is held as a whole, and its caller is not the only one. */
  answerBytes: number
}

/** A session that is to be opened. */
export interface SessionOptions extends SessionAddress {
  limits: SessionLimits
  /** Further settings that it begins with. */
  settings?: Record<string, string>
}

export const DEFAULT_LIMITS: SessionLimits = {
  lockWaitMs: 2_000,
  timeLimitMs: 10_000,
  idleMs: 15_000,
  answerBytes: 64 * 1024 * 1024,
}

/** What V8 takes as one text is half a gigabyte. */
export const LONGEST_ANSWER = 384 * 1024 * 1024

/** The limits of sessions that write: what a step changes comes back whole. */
export function writingLimits(limits: SessionLimits): SessionLimits {
  return { ...limits, answerBytes: Math.min(4 * limits.answerBytes, LONGEST_ANSWER) }
}

/** What shapes PostgreSQL's text forms, which all codecs rely on, and what statements mean: whatever a database or a role has set. */
const FORMS: Readonly<Record<string, string>> = {
  DateStyle: 'ISO,MDY',
  TimeZone: 'UTC',
  IntervalStyle: 'iso_8601',
  bytea_output: 'hex',
  extra_float_digits: '1',
  xmlbinary: 'base64',
  xmloption: 'content',
  array_nulls: 'on',
  quote_all_identifiers: 'off',
  client_min_messages: 'warning',
  standard_conforming_strings: 'on',
  // A statement that is a transaction by itself has this level; others say theirs.
  default_transaction_isolation: 'read committed',
  // Otherwise a table with policies refuses whoever they hold for.
  row_security: 'on',
  // Otherwise an index may leave out rows by chance.
  gin_fuzzy_search_limit: '0',
  // Compiling what the planner takes for dear costs half a second a run, of the catalogue above all, and has never paid.
  jit: 'off',
}

/** A session with these knows PostgreSQL's own names only, whatever somebody has put into the schemas of the role's search path. */
export const OWN_NAMES: Readonly<Record<string, string>> = { search_path: 'pg_catalog' }

/** The same, for the rest of the transaction in any other session. */
export const OWN_NAMES_SQL = `select pg_catalog.set_config('search_path', 'pg_catalog', true)`

/** What every session of a target begins with. */
function sessionSettings(limits: SessionLimits, others: Record<string, string>): Record<string, string> {
  return {
    lock_timeout: String(limits.lockWaitMs),
    statement_timeout: String(limits.timeLimitMs),
    idle_in_transaction_session_timeout: String(limits.idleMs),
    ...FORMS,
    ...others,
  }
}

/** Addresses by way of a proxy that refuses start-up options. */
const refusing = new Set<string>()

/** The settings as start-up options: given with the connection they hold from its first moment. Undefined where a proxy refuses them. */
export function startupOptions({ url, limits, settings = {} }: SessionOptions): string | undefined {
  return refusing.has(url) ? undefined : asOptions(sessionSettings(limits, settings))
}

/**
 * Whether a session was refused for its start-up options, as it may be by a proxy. The next one goes without: what a session begins with, it is
 * given once more as soon as it is open.
 */
export function hasRefusedOptions(error: unknown, url: string, sent: string | undefined): boolean {
  if (sent === undefined || !isProtocolViolation(error)) return false
  refusing.add(url)
  return true
}

function asOptions(settings: Readonly<Record<string, string>>): string {
  return Object.entries(settings)
    .map(([name, value]) => `-c ${name}=${value.replace(/[\\ ]/g, '\\$&')}`)
    .join(' ')
}

/** As start-up options, for sessions of another database than a target: the forms that statements and values have in those. */
export const FORM_OPTIONS = asOptions(FORMS)

/** How long a new session may take for its settings, in milliseconds. */
const BEGIN_LIMIT_MS = 1_500

/**
 * What only some roles may say, or some servers know: that the server's log does not repeat the values of a row that breaks a constraint ("Failing
 * row contains"), that it speaks the language its messages are known in, and that it looks every second whether we are still there: what an
 * instance that is gone had asked for would hold its locks until it is through.
 */
const WANTED_SETTINGS = { log_error_verbosity: 'terse', lc_messages: 'C', client_connection_check_interval: '1000' }

/** The settings of those that a pool's role may not choose, or its server not set. */
const denied = new WeakMap<object, Set<string>>()

/** The languages in which the words are known, and those in which they were heard since: of one version, since words change. */
const SPOKEN = /^(?:C|POSIX|en)(?![a-z])/i
const heard = new Set<string>()

const LANGUAGE_SQL = `pg_catalog.concat_ws(' ', pg_catalog.current_setting('lc_messages'), pg_catalog.current_setting('server_version')) as language`

/** A session that was just opened. A proxy in between may have told another process than the server's that serves it. */
export type FreshClient = Pick<ClientBase, 'query'> & { processID?: number; pipeline?: boolean }

/**
 * Gives a new session its settings once more, since a proxy in between may have dropped the start-up options, and sees to it that
 * `pg_catalog` comes first in its search path, so that the name of a type means PostgreSQL's own. The rest of the path is the role's:
 * its triggers and functions rely on it.
 *
 * @param owner who it is remembered for what the role may not say
 * @throws LedgermanProblem target-unavailable where nothing that is set would last
 */
export async function beginSession(client: FreshClient, options: SessionOptions, owner: object): Promise<void> {
  await assertSessionsLast(client, options)
  const settings = sessionSettings(options.limits, options.settings ?? {})
  const calls = Object.keys(settings).map((_, at) => `pg_catalog.set_config($${2 * at + 1}, $${2 * at + 2}, false)`)
  const all = ['pg_catalog.pg_backend_pid() as pid', LANGUAGE_SQL, ...calls, PATH_SQL].join(', ')
  const known = denied.get(owner) ?? new Set()
  denied.set(owner, known)
  let language = ''
  await together(client, [
    async () => {
      const values = Object.entries(settings).flat()
      const { rows } = await ask<{ pid: string; language: string }>(client, `select ${all}`, values)
      client.processID = Number(rows[0]?.pid)
      language = rows[0]?.language ?? ''
    },
    ...Object.entries(WANTED_SETTINGS).map(([name, value]) => async () => {
      if (known.has(name)) return
      const isSet = await isTaken(() => ask(client, 'select pg_catalog.set_config($1, $2, false)', [name, value]))
      if (!isSet) known.add(name)
    }),
  ])
  if (!known.has('lc_messages') || SPOKEN.test(language) || heard.has(language)) return
  await hearTimeLimit(client)
  heard.add(language)
}

/** Has a statement run too long, to hear what the server says of it in its own language. */
async function hearTimeLimit(client: FreshClient): Promise<void> {
  const sleep = () =>
    ask(client, 'select pg_catalog.pg_sleep(1)').catch((error: unknown) => {
      // A role that may not sleep says nothing of it.
      if (isCancelled(error)) learnTimeLimitWords((error as DatabaseError).message)
      else if (!isDatabaseError(error)) throw error
    })
  const asking = (text: string) => () => ask(client, text)
  await together(client, [asking('begin'), asking('set local statement_timeout = 1'), sleep, asking('rollback')])
}

/** Sends all of it at once, since a database may be far away; one by one where the client takes no more. */
async function together(client: FreshClient, works: readonly (() => Promise<unknown>)[]): Promise<void> {
  if (client.pipeline) await Promise.all(works.map((work) => work()))
  else for (const work of works) await work()
}

/** Not permitted; not known, before PostgreSQL 14; not possible on the server's system. */
const NOT_TAKEN = ['42501', '42704', '22023']

async function isTaken(work: () => Promise<unknown>): Promise<boolean> {
  try {
    await work()
    return true
  } catch (error) {
    if (!isDatabaseError(error) || !NOT_TAKEN.includes(error.code ?? '')) throw error
    return false
  }
}

const PATH_SQL = `case when pg_catalog.strpos(pg_catalog.current_setting('search_path'), 'pg_catalog') operator(pg_catalog.>) 0
  then pg_catalog.set_config('search_path', pg_catalog.concat('pg_catalog, ', pg_catalog.current_setting('search_path')), false) end`

function ask<R extends QueryResultRow>(client: Pick<ClientBase, 'query'>, text: string, values: string[] = []) {
  return client.query<R>({ text, values, query_timeout: BEGIN_LIMIT_MS } as QueryConfig)
}
