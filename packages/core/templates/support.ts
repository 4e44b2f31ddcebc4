import { createHash } from 'node:crypto'
import type { ClientBase, Pool, QueryResult } from 'pg'

/** A pool, on which each call is a transaction of its own; or a client inside a transaction that the caller has begun. */
export type Db = Pool | ClientBase

/** What a load gives: the record, and what tells later whether it is still as it was. */
export interface Loaded<T> {
  record: T
  guard: string | null
}

/** What became of one record. */
export interface Written<T> extends Loaded<T> {
  matched: number
  changed: number
}

/** Whatever is thrown here on purpose; `code` tells the kind. */
export abstract class DataError extends Error {
  abstract readonly code: string

  constructor(message: string, options?: ErrorOptions) {
    super(message, options)
    this.name = new.target.name
  }
}

/** There is no such record. */
export class RecordMissing extends DataError {
  readonly code = 'no-such-record'
}

/** The record is not as it was loaded. */
export class RecordChanged extends DataError {
  readonly code = 'record-changed'
  readonly loaded: Readonly<Record<string, unknown>>
  readonly yours: Readonly<Record<string, unknown>>
  readonly current: Readonly<Record<string, unknown>>
  /** The guard of the record as it is now: with it the change can be tried again. */
  readonly guard: string | null

  constructor(
    message: string,
    loaded: Readonly<Record<string, unknown>>,
    yours: Readonly<Record<string, unknown>>,
    current: Readonly<Record<string, unknown>>,
    guard: string | null,
  ) {
    super(message)
    this.loaded = loaded
    this.yours = yours
    this.current = current
    this.guard = guard
  }
}

/** That a record is not as it was loaded, with what was to be changed of it. */
export function changedSince(
  what: string,
  loaded: object,
  yours: Readonly<Record<string, unknown>>,
  current: object,
  guard: string | null,
): RecordChanged {
  const names = Object.keys(yours)
  const [was, is] = [partOf(loaded, names), partOf(current, names)]
  return new RecordChanged(`${what}: the record is not as it was loaded.`, was, yours, is, guard)
}

/** A step matched another number of rows than was expected. */
export class CountMismatch extends DataError {
  readonly code: 'count-mismatch' | 'record-ambiguous' = 'count-mismatch'
  readonly expected: string
  readonly matched: number

  constructor(message: string, expected: string, matched: number) {
    super(message)
    this.expected = expected
    this.matched = matched
  }
}

/** Several records fit, and one was meant. */
export class RecordAmbiguous extends CountMismatch {
  override readonly code = 'record-ambiguous'
}

/** A rule does not hold. */
export class RuleBroken extends DataError {
  readonly code = 'rule-broken'
  readonly rule: string

  constructor(message: string, rule: string) {
    super(message)
    this.rule = rule
  }
}

/** A row was found and should have been written, and was not: a trigger, or a rule of row security, kept it as it was. */
export class RowNotWritten extends DataError {
  readonly code = 'row-not-written'
}

/** A value that its column cannot hold. */
export class ValueInvalid extends DataError {
  readonly code = 'value-invalid'
  readonly property: string

  constructor(property: string, expected: string, options?: ErrorOptions) {
    super(`${property}: expected ${expected}.`, options)
    this.property = property
  }
}

/** The database refused the change because of one of its constraints. */
export class ConstraintBroken extends DataError {
  readonly code = 'constraint-broken'
  readonly constraint: string | undefined

  constructor(message: string, constraint: string | undefined, cause: unknown) {
    super(message, { cause })
    this.constraint = constraint
  }
}

/** A lock was not granted in time. */
export class LockTimeout extends DataError {
  readonly code = 'lock-timeout'
}

/** A statement took longer than it may. */
export class TimeLimit extends DataError {
  readonly code = 'time-limit'
}

/** Serialization failures or deadlocks, every attempt. */
export class RetriesExhausted extends DataError {
  readonly code = 'retries-exhausted'
}

/** The connection broke while the change was being committed: it is done, or it is not. Load the record to find out. */
export class OutcomeUnknown extends DataError {
  readonly code = 'outcome-unknown'
}

export interface Limits {
  isolation: 'read committed' | 'repeatable read' | 'serializable'
  lockWaitMs: number
  timeLimitMs: number
  /** How often it is tried again after a serialization failure or a deadlock. */
  retries: number
  /** The settings that the texts of its values depend on; all that there are, where it does not say. */
  forms?: readonly TextForm[]
}

export const LIMITS: Limits = { isolation: 'read committed', lockWaitMs: 2_000, timeLimitMs: 10_000, retries: 0 }

/** Settings that the texts of values depend on. */
const TEXT_FORMS = {
  DateStyle: 'ISO, MDY',
  TimeZone: 'UTC',
  IntervalStyle: 'iso_8601',
  bytea_output: 'hex',
  extra_float_digits: '1',
} as const

type TextForm = keyof typeof TEXT_FORMS

function formsOf({ forms = Object.keys(TEXT_FORMS) as TextForm[] }: Limits): (readonly [TextForm, string])[] {
  return forms.map((form) => [form, TEXT_FORMS[form]])
}

/**
 * What each connection of a pool may begin with: `new Pool({ ...POOL_SETTINGS, connectionString })`. Then nothing has to be set by
 * transactions, and many a change of one record is one round trip in place of three.
 */
export const POOL_SETTINGS = {
  lock_timeout: LIMITS.lockWaitMs,
  statement_timeout: LIMITS.timeLimitMs,
  options: Object.entries(TEXT_FORMS)
    .map(([name, value]) => `-c ${name}=${value.replaceAll(' ', '')}`)
    .join(' '),
} as const

/** Rows as PostgreSQL writes them, so that no driver default can lose a digit. */
export type Row = readonly (string | null)[]

const asText = { getTypeParser: () => (text: string) => text }

/** Texts that are prepared, and under which names; a limit, as a connection keeps what it has prepared. */
const prepared = new Map<string, string>()
const MOST_PREPARED = 500
let isPreparing = true
let timesAltered = 0

/**
 * Whether each connection prepares a statement once, which saves planning it each time: it does, until told otherwise. Say
 * false where a proxy hands connections round between transactions.
 */
export function prepareStatements(isWanted: boolean): void {
  isPreparing = isWanted
}

/** What is made of some properties, such as the text of a statement: once for each choice of them. */
export function madeOnce<Name extends string, Made>(
  make: (set: readonly Name[]) => Made,
): (set: readonly Name[]) => Made {
  const made = new Map<string, Made>()
  return (set) => {
    const names = set.join('\0')
    const known = made.get(names)
    if (known !== undefined) return known
    const next = make(set)
    if (made.size < MOST_PREPARED) made.set(names, next)
    return next
  }
}

function preparedName(text: string): string | undefined {
  if (!isPreparing) return undefined
  const known = prepared.get(text)
  if (known !== undefined || prepared.size >= MOST_PREPARED) return known
  const digest = createHash('sha256').update(`${timesAltered} ${text}`).digest('hex')
  const name = `lm_${digest.slice(0, 32)}`
  prepared.set(text, name)
  return name
}

/** Runs one statement and gives its rows as texts. On a pool it is run once more where what a connection has prepared is out of date. */
export async function ask(db: Db, text: string, values: readonly (string | null)[], isAgain = false): Promise<Row[]> {
  const name = preparedName(text)
  const query = { name, text, values, rowMode: 'array' as const, types: asText }
  try {
    return ((await db.query(query as never)) as unknown as QueryResult & { rows: Row[] }).rows
  } catch (error) {
    if (!isStalePlan(error)) throw explained(error)
    if (name !== undefined && prepared.get(text) === name) {
      // New names, as every connection has to prepare afresh.
      prepared.clear()
      timesAltered++
    }
    if (!isPool(db) || isAgain) throw error
  }
  return ask(db, text, values, true)
}

/**
 * Runs `work` in a transaction: one of its own on a pool, the caller's on a client. On a pool a serialization failure or deadlock
 * is tried again, after a pause that differs from one caller to the next.
 *
 * @throws DataError, and what `work` throws; then nothing was changed, but for OutcomeUnknown
 */
export async function inTransaction<T>(db: Db, limits: Limits, work: (client: ClientBase) => Promise<T>): Promise<T> {
  if (!isPool(db)) return insideOf(db, limits, work)
  let isFresh = false
  for (let attempt = 0; ; attempt++) {
    try {
      return await once(db, limits, work)
    } catch (error) {
      if (isStalePlan(error) && !isFresh) {
        isFresh = true
        attempt--
        continue
      }
      if (!isRetryable(error)) throw error
      if (attempt >= limits.retries)
        throw new RetriesExhausted(`Every attempt of ${attempt + 1} ended in a serialization failure or a deadlock.`, {
          cause: error,
        })
      await new Promise((resolve) => setTimeout(resolve, Math.random() * 10 * 2 ** attempt))
    }
  }
}

async function once<T>(pool: Pool, limits: Limits, work: (client: ClientBase) => Promise<T>): Promise<T> {
  const begin = (await beginsWith(pool, limits)) ? 'begin' : beginText(limits)
  const client = await pool.connect()
  let isBroken = true
  // A connection that breaks between two statements is noticed by the next; with nobody listening it would end the process.
  client.on('error', ignore)
  try {
    await client.query(begin)
    const result = await withAllInView(client, limits, work)
    await commit(client)
    isBroken = false
    return result
  } catch (error) {
    if (!(error instanceof OutcomeUnknown))
      isBroken = await client.query('rollback').then(
        () => false,
        () => true,
      )
    throw explained(error)
  } finally {
    if (!isBroken) client.off('error', ignore)
    client.release(isBroken)
  }
}

function ignore(): void {}

/** Tables that the transaction has used and whose file is another than its view of the rows knows. */
const OUT_OF_VIEW = `select from pg_catalog.pg_locks l join pg_catalog.pg_class c on c.oid = l.relation
where l.pid = pg_catalog.pg_backend_pid() and l.locktype = 'relation' and c.relkind in ('r', 'm')
  and c.relfilenode <> 0 and pg_catalog.pg_relation_filenode(c.oid) <> c.relfilenode`

/**
 * A table that ALTER TABLE rewrote after the transaction took its view of the rows, and before it used the table, is empty to that view, and PostgreSQL
 * says nothing of it. Such a transaction ends as in a serialization failure. At `read committed` each statement has a view of its own.
 */
async function withAllInView<T>(
  client: ClientBase,
  { isolation }: Limits,
  work: (client: ClientBase) => Promise<T>,
): Promise<T> {
  if (isolation === 'read committed') return work(client)
  const isInView = async () => (await client.query(OUT_OF_VIEW)).rowCount === 0
  let result: T
  try {
    result = await work(client)
  } catch (error) {
    if (await isInView().catch(() => true)) throw error
    throw rewritten()
  }
  if (await isInView()) return result
  throw rewritten()
}

function rewritten(): Error {
  const message = 'a table was rewritten (ALTER TABLE) after the transaction had taken its view of the rows'
  return Object.assign(new Error(message), { severity: 'ERROR', code: '40001' })
}

const beginTexts = new WeakMap<Limits, string>()

function beginText(limits: Limits): string {
  const known = beginTexts.get(limits)
  if (known !== undefined) return known
  const { isolation, lockWaitMs, timeLimitMs } = limits
  const text = [
    `begin isolation level ${isolation}`,
    `set local lock_timeout = ${lockWaitMs}`,
    `set local statement_timeout = ${timeLimitMs}`,
    ...formsOf(limits).map(([name, value]) => `set local ${name} = '${value}'`),
  ].join('; ')
  beginTexts.set(limits, text)
  return text
}

/** Whether the connections of a pool begin with limits; asked for once. */
const begun = new WeakMap<Pool, WeakMap<Limits, boolean>>()

/** Whether each connection of a pool begins with these limits, whoever has said so: the pool's options, its role, its database. */
async function beginsWith(pool: Pool, limits: Limits): Promise<boolean> {
  const known = begun.get(pool)?.get(limits)
  if (known !== undefined) return known
  const rows = await ask(
    pool,
    `select pg_catalog.lower(name::text), reset_val from pg_catalog.pg_settings where context = 'user'`,
    [],
  )
  const begins = areAs(limits, new Map(rows.map(([name, value]) => [name, value])))
  const ofPool = begun.get(pool) ?? new WeakMap<Limits, boolean>()
  begun.set(pool, ofPool.set(limits, begins))
  return begins
}

function areAs(limits: Limits, settings: ReadonlyMap<string | null | undefined, string | null | undefined>): boolean {
  const { isolation, lockWaitMs, timeLimitMs } = limits
  const isAs = (name: string, value: string) => settings.get(name.toLowerCase()) === value
  return (
    isAs('default_transaction_isolation', isolation) &&
    isAs('lock_timeout', String(lockWaitMs)) &&
    isAs('statement_timeout', String(timeLimitMs)) &&
    formsOf(limits).every(([name, value]) => isAs(name, value))
  )
}

/**
 * Runs one statement that writes one record, or nothing, and makes of its rows what `tell` does. It is a transaction of its own where each connection of
 * the pool begins with the limits; else it is run in one.
 *
 * @throws DataError; then nothing was changed, but for OutcomeUnknown
 */
export async function inOneStatement<T>(
  db: Db,
  limits: Limits,
  text: string,
  values: () => readonly (string | null)[],
  tell: (rows: Row[]) => T,
): Promise<T> {
  const rows = await askAlone(db, limits, text, values())
  if (rows) return tell(rows)
  return inTransaction(db, limits, async (client) => tell(await ask(client, text, values())))
}

/**
 * Runs one statement as a transaction of its own.
 *
 * @returns its rows; undefined where it has to be run in one that is begun: then nothing was done
 * @throws DataError; then nothing was changed, but for OutcomeUnknown
 */
export async function askAlone(
  db: Db,
  limits: Limits,
  text: string,
  values: readonly (string | null)[],
): Promise<Row[] | undefined> {
  if (limits.isolation !== 'read committed' || !isPool(db) || !(await beginsWith(db, limits))) return undefined
  const client = await db.connect()
  let isBroken = true
  client.on('error', ignore)
  try {
    const rows = await ask(client, text, values)
    isBroken = false
    return rows
  } catch (error) {
    const cause = error instanceof DataError ? error.cause : error
    if (!isDatabaseError(cause))
      throw new OutcomeUnknown('The connection broke while the change was being made. Load the record to find out.', {
        cause,
      })
    isBroken = cause.severity === 'FATAL'
    if (isRetryable(cause) || isStalePlan(cause)) return undefined
    throw error
  } finally {
    if (!isBroken) client.off('error', ignore)
    client.release(isBroken)
  }
}

/** COMMIT of a failed transaction succeeds as a ROLLBACK: only its tag tells. */
async function commit(client: ClientBase): Promise<void> {
  let tag: string
  try {
    tag = (await client.query('commit')).command
  } catch (error) {
    if (isDatabaseError(error)) throw error
    throw new OutcomeUnknown(
      'The connection broke while the change was being committed. Load the record to find out.',
      {
        cause: error,
      },
    )
  }
  if (tag !== 'COMMIT') throw new Error(`COMMIT was answered with ${tag}: nothing was changed`)
}

/** In somebody else's transaction the settings are put back as they were. */
async function insideOf<T>(client: ClientBase, limits: Limits, work: (client: ClientBase) => Promise<T>): Promise<T> {
  const forms = formsOf(limits)
  if (forms.length === 0) return work(client)
  const names = forms.map(([name]) => name)
  const kept = names.map((name) => `pg_catalog.current_setting('${name}')`)
  const set = forms.map(([name, value]) => `pg_catalog.set_config('${name}', '${value}', true)`)
  const [before = []] = await ask(client, `select ${[...kept, ...set].join(', ')}`, [])
  const result = await work(client)
  await ask(
    client,
    `select ${names.map((name, at) => `pg_catalog.set_config('${name}', $${at + 1}, true)`).join(', ')}`,
    before.slice(0, names.length),
  )
  return result
}

function isPool(db: Db): db is Pool {
  return 'totalCount' in db
}

function isDatabaseError(
  error: unknown,
): error is Error & { code: string; severity: string; constraint?: string; routine?: string } {
  return error instanceof Error && 'severity' in error && 'code' in error
}

function isRetryable(error: unknown): boolean {
  return isDatabaseError(error) && (error.code === '40001' || error.code === '40P01')
}

/** Whether what a connection has prepared no longer fits the table, which was altered since; prepared afresh it runs. */
function isStalePlan(error: unknown): boolean {
  return isDatabaseError(error) && error.code === '0A000' && error.routine === 'RevalidateCachedQuery'
}

/** An error of the database in these words; others, and those that are tried again, as they are. */
function explained(error: unknown): unknown {
  if (!isDatabaseError(error)) return error
  const { code, message, constraint } = error
  // What was given is checked before: this one was computed, or its column has changed since.
  if (code.startsWith('22'))
    return new ValueInvalid('a value', `what can be computed, and its column can hold: ${message}`, { cause: error })
  if (code.startsWith('23')) return new ConstraintBroken(message, constraint, error)
  if (code === '55P03') return new LockTimeout(`A lock was not granted in time: ${message}`, { cause: error })
  if (code === '57014') return new TimeLimit(message, { cause: error })
  if (isPreparing && (code === '26000' || code === '42P05'))
    return new Error('A proxy seems to hand connections round: call prepareStatements(false) once.', { cause: error })
  return error
}

/** How many rows a step is meant to match: `one`, `none`, `some`, `any`, a number, or a range such as `2..40`. */
export type Expectation = string | number

/** @throws RecordMissing, RecordAmbiguous, CountMismatch */
export function expectCount(what: string, expected: Expectation, matched: number, isKeyed: boolean): void {
  if (fits(expected, matched)) return
  const isOne = expected === 'one' || expected === 1
  if (matched === 0 && isOne && isKeyed) throw new RecordMissing(`${what}: there is no such record.`)
  if (matched > 1 && expected === 'one')
    throw new RecordAmbiguous(`${what}: ${matched} records fit, and one was meant.`, String(expected), matched)
  throw new CountMismatch(
    `${what}: expected ${expected}, matched ${matched}. Nothing was changed.`,
    String(expected),
    matched,
  )
}

/** That another number of records than one was found by a key, which is told as far as it may be. */
export function notOne(what: string, matched: number, key: Readonly<Record<string, unknown>>): DataError {
  if (matched > 1) return new RecordAmbiguous(`${what}: ${matched} records fit, and one was meant.`, 'one', matched)
  const told = Object.keys(key).map((name) => `${name} ${String(key[name])}`)
  return new RecordMissing(
    `${what}: there is no ${told.length > 0 ? `record with ${told.join(', ')}` : 'such record'}.`,
  )
}

/** Does something to one record. Row security may let it be read and not be written: then it is no missing one. */
export async function orHidden<T>(what: string, load: () => Promise<unknown>, does: () => Promise<T>): Promise<T> {
  try {
    return await does()
  } catch (error) {
    if (!(error instanceof RecordMissing)) throw error
    const isThere = await load().then(
      () => true,
      () => false,
    )
    throw isThere
      ? new RowNotWritten(`${what}: the record was found, and a policy keeps it from being written.`)
      : error
  }
}

function fits(expected: Expectation, matched: number): boolean {
  if (typeof expected === 'number') return matched === expected
  if (expected === 'any') return true
  if (expected === 'one') return matched === 1
  if (expected === 'none') return matched === 0
  if (expected === 'some') return matched >= 1
  const [least = '', most = ''] = expected.includes('..') ? expected.split('..') : [expected, expected]
  return matched >= Number(least || 0) && (most === '' || matched <= Number(most))
}

/** A value of a record out of PostgreSQL's text. */
export type Read = (text: string) => unknown
/** A value as PostgreSQL reads it. @throws ValueInvalid */
export type Write = (value: unknown, property: string) => string

/** A value of a record, of the type that its property has. */
export function read<T>(reader: Read, text: string | null | undefined): T {
  return (text === null || text === undefined ? null : reader(text)) as T
}

export function writeValue(write: Write, value: unknown, property: string): string | null {
  return value === null || value === undefined ? null : write(value, property)
}

/** A part of a key as PostgreSQL reads it. @throws ValueInvalid */
export function writeKey(write: Write, value: unknown, property: string): string {
  if (value === null || value === undefined) throw new ValueInvalid(property, 'a value: it is part of the key')
  return write(value, property)
}

/** The names of `values` that have one, null too, each of which has to be one of `known`. @throws ValueInvalid */
export function namesOf<Name extends string>(values: object, known: Readonly<Record<Name, unknown>>): Name[] {
  return Object.keys(values).filter((name): name is Name => {
    if (!Object.hasOwn(known, name)) throw new ValueInvalid(name, `one of ${Object.keys(known).join(', ')}`)
    return (values as Record<string, unknown>)[name] !== undefined
  })
}

/** What is looked for: a condition without a value is not left out. @throws ValueInvalid */
export function assertAsked(values: object): void {
  for (const [name, value] of Object.entries(values))
    if (value === undefined) throw new ValueInvalid(name, 'a value, or null for none')
}

/** That nothing is given but parameters of these names. @throws ValueInvalid */
export function assertNames(params: object, known: readonly string[]): void {
  for (const name of Object.keys(params))
    if (!known.includes(name))
      throw new ValueInvalid(name, known.length > 0 ? `one of ${known.join(', ')}` : 'no parameter')
}

/** The parts of a record that are named. */
export function partOf(record: object, names: readonly string[]): Record<string, unknown> {
  return Object.fromEntries(names.map((name) => [name, (record as Record<string, unknown>)[name]]))
}

/** What a guard says, without the letter of its kind; null where it is of another kind, and so fits nothing. */
export function guardText(guard: string | null, letter: string): string | null {
  return guard?.startsWith(letter) && /^[0-9a-f-]+$/.test(guard.slice(1)) ? guard.slice(1) : null
}

/** The same as an array, for `= any`. */
export function guardArray(guard: string | null, letter: string): string {
  return `{${guardText(guard, letter) ?? ''}}`
}

export function toGuard(text: string | null | undefined, letter: string): string | null {
  return letter === '' || text === null || text === undefined ? null : letter + text
}

export const readText: Read = (text) => text
/** NaN and the infinities stay texts: JSON has none of them. */
export const readNumber: Read = (text) => {
  const number = Number(text)
  return Number.isFinite(number) ? number : text
}
export const readBoolean: Read = (text) => text === 't' || text === 'true'
export const readTimestamp: Read = (text) => (text.endsWith('BC') ? text.replace('T', ' ') : text.replace(' ', 'T'))
export const readTimestamptz: Read = (text) =>
  text.endsWith('BC') ? text : text.replace(' ', 'T').replace(/\+00(:00)?$/, 'Z')
export const readBytes: Read = (text) => Buffer.from(text.slice(2), 'hex').toString('base64')

/** The text that a json value was read from: its numbers may have digits that JavaScript's do not hold. */
const jsonSources = new WeakMap<object, string>()

/** A JSON null differs from no value at all: it comes, and goes, as `{ "ledgerman:json": null }`. */
export const readJson: Read = (text) => {
  const value: unknown = JSON.parse(text)
  const read = value === null || isEnvelope(value) ? { 'ledgerman:json': value } : value
  if (typeof read === 'object' && read !== null) jsonSources.set(read, text)
  return read
}

function isEnvelope(value: unknown): value is { 'ledgerman:json': unknown } {
  return value !== null && typeof value === 'object' && Object.hasOwn(value, 'ledgerman:json')
}

/** PostgreSQL's text form of an array ("Array Input and Output Syntax"). */
export function readArray(read: Read, delimiter: string): Read {
  return (text) => {
    let at = text.indexOf('{')
    const item = (): unknown => {
      if (text[at] === '{') return list()
      if (text[at] !== '"') {
        const start = at
        while (at < text.length && text[at] !== delimiter && text[at] !== '}') at++
        const bare = text.slice(start, at)
        return bare === 'NULL' ? null : read(bare)
      }
      let quoted = ''
      for (at++; at < text.length && text[at] !== '"'; at++) {
        if (text[at] === '\\') at++
        quoted += text[at] ?? ''
      }
      at++
      return read(quoted)
    }
    const list = (): unknown[] => {
      const items: unknown[] = []
      at++
      while (at < text.length && text[at] !== '}') {
        items.push(item())
        if (text[at] === delimiter) at++
      }
      at++
      return items
    }
    return list()
  }
}

export function writeText(longest: number | null): Write {
  return (value, property) => {
    if (typeof value !== 'string' || value.includes('\0')) throw new ValueInvalid(property, 'a text')
    if (longest !== null && [...value].length > longest)
      throw new ValueInvalid(property, `at most ${longest} ${longest === 1 ? 'character' : 'characters'}`)
    return value
  }
}

/** A whole number; as a text where it can be larger than a number holds exactly. */
export function writeWhole(least: bigint, most: bigint, mayBeText: boolean): Write {
  return (value, property) => {
    const digits = typeof value === 'number' || (mayBeText && typeof value === 'string') ? String(value) : ''
    const whole = /^-?\d{1,20}$/.test(digits) ? BigInt(digits) : null
    if (whole === null || whole < least || whole > most)
      throw new ValueInvalid(property, `a whole number from ${least} to ${most}`)
    return digits
  }
}

/** An exact number: more digits than the column keeps are refused, not rounded away. */
export function writeNumeric(digits: number | null, scale: number | null): Write {
  return (value, property) => {
    const text = typeof value === 'number' || typeof value === 'string' ? String(value) : ''
    if (text === 'NaN' || (scale === null && /^-?Infinity$/.test(text))) return text
    const parts = /^[+-]?(\d*)(?:\.(\d*))?(?:[eE]([+-]?\d{1,5}))?$/.exec(text)
    const [, whole = '', fraction = '', exponent = '0'] = parts ?? []
    const all = whole + fraction
    if (!parts || all === '') throw new ValueInvalid(property, 'a number, as a string of digits such as "14.50"')
    const point = whole.length + Number(exponent)
    const first = all.search(/[1-9]/)
    const before = first < 0 ? 0 : Math.max(0, point - first)
    const after = first < 0 ? 0 : all.replace(/(?<!0)0+$/, '').length - point
    if (scale !== null && after > scale)
      throw new ValueInvalid(property, `at most ${scale} ${scale === 1 ? 'digit' : 'digits'} behind the point`)
    if (digits !== null && scale !== null && before > Math.max(0, digits - scale))
      throw new ValueInvalid(
        property,
        `at most ${digits - scale} ${digits - scale === 1 ? 'digit' : 'digits'} before the point`,
      )
    return text
  }
}

export const writeFloat: Write = (value, property) => {
  if (typeof value === 'number') return Object.is(value, -0) ? '-0' : String(value)
  if (typeof value === 'string' && /^(NaN|-?Infinity)$/.test(value)) return value
  throw new ValueInvalid(property, 'a number, or "NaN", "Infinity", "-Infinity"')
}

export const writeBoolean: Write = (value, property) => {
  if (typeof value !== 'boolean') throw new ValueInvalid(property, 'true or false')
  return value ? 't' : 'f'
}

export function writeOneOf(labels: readonly string[]): Write {
  return (value, property) => {
    if (typeof value !== 'string' || !labels.includes(value))
      throw new ValueInvalid(property, `one of ${labels.map((label) => JSON.stringify(label)).join(', ')}`)
    return value
  }
}

/** A value that was read, and not touched since, is written as it was, to the last digit. */
export const writeJson: Write = (value) => {
  const text = jsonText(value)
  const source = typeof value === 'object' && value !== null ? jsonSources.get(value) : undefined
  return source !== undefined && jsonText(readJson(source)) === text ? source : text
}

function jsonText(value: unknown): string {
  return JSON.stringify(isEnvelope(value) && Object.keys(value).length === 1 ? value['ledgerman:json'] : value)
}

export const writeBytes: Write = (value, property) => {
  const bytes = typeof value === 'string' ? Buffer.from(value, 'base64') : undefined
  if (bytes === undefined || bytes.toString('base64') !== value) throw new ValueInvalid(property, 'bytes as base64')
  return `\\x${bytes.toString('hex')}`
}

export function writeArray(write: Write, delimiter: string, holdsJson: boolean): Write {
  const list = (items: readonly unknown[], property: string): string => {
    const parts = items.map((item) => {
      if (item === null) return 'NULL'
      if (Array.isArray(item) && !holdsJson) return list(item, property)
      return `"${write(item, property).replace(/["\\]/g, '\\$&')}"`
    })
    return `{${parts.join(delimiter)}}`
  }
  return (value, property) => {
    if (!Array.isArray(value)) throw new ValueInvalid(property, 'an array')
    return list(value, property)
  }
}

/** Whether a question that the database answers holds. */
export async function holds(client: ClientBase, text: string, values: readonly (string | null)[]): Promise<boolean> {
  const [row = []] = await ask(client, text, values)
  return row[0] === 't'
}

/** Runs a raw statement. @returns how many rows it gave, or changed. */
export async function countOf(client: ClientBase, text: string, values: readonly (string | null)[]): Promise<number> {
  try {
    const { rowCount, rows } = await client.query({ text, values: [...values], types: asText } as never)
    return rowCount ?? (rows as unknown[]).length
  } catch (error) {
    throw explained(error)
  }
}

/** What a step did: how many rows it matched and changed, and the first of them as it is now. */
export interface Step {
  matched: number
  changed: number
  row: Row
  guard: string | null
}

/** What a step was that did not run. */
export const SKIPPED: Step = { matched: 0, changed: 0, row: [], guard: null }

interface Expected {
  what: string
  expect: Expectation
  isKeyed: boolean
  /** How many rows fit, locked by others or not, where those that are locked are left out. */
  found?: number | undefined
}

function assertCount({ what, expect, isKeyed, found }: Expected, matched: number): void {
  if (found !== undefined && found > matched && !fits(expect, matched) && fits(expect, found))
    throw new LockTimeout(`${what}: ${found - matched} rows are held by others, and what is held is left out.`)
  expectCount(what, expect, matched, isKeyed)
}

/** What a load found: rows hold a record of `width` values, its guard, and how many there are in all where there can be several. */
export function loadedBy(rows: readonly Row[], expected: Expected & { width: number }): Step {
  const [row = []] = rows
  const matched = Number(row[expected.width + 1] ?? rows.length)
  assertCount(expected, matched)
  return { matched, changed: 0, row: row.slice(0, expected.width), guard: row[expected.width] ?? null }
}

/** The row that has these texts in these places, among those that a step locked: nobody can have changed it since. */
export function among(
  rows: readonly Row[],
  width: number,
  key: readonly (readonly [place: number, text: string | null])[],
): Row[] | undefined {
  const row = rows.find((each) => key.every(([place, text]) => text !== null && each[place] === text))
  return row && [row.slice(0, width + 1)]
}

interface WriteExpected extends Expected {
  /** How many values a record has. */
  width: number
  /** How many of them are given where it was written: none, where nobody reads them. */
  given?: number
  rules: readonly (readonly [that: string, otherwise: string])[]
  /** What is set, by name and place, and as what: to say what was changed meanwhile. */
  set: readonly (readonly [name: string, place: number, read: Read])[]
  yours: Readonly<Record<string, unknown>>
  loaded?: Row | undefined
  letter: string
}

/**
 * What a step wrote that writes one record: where `write` wrote nothing, `look` locks the row and tells why; an addition has none. Rows of both begin with the record and its
 * guard; then `write` gives the number of the rule that is broken, `look` whether the row may be written, and whether it would differ.
 */
export async function writtenOne(
  expected: WriteExpected & { write(): Promise<Row[]>; look?: () => Promise<Row[]> },
): Promise<Step> {
  const { what, width, given = width, write, look } = expected
  let rows = await write()
  if (rows.length === 0) {
    const [found] = look ? await look() : []
    assertCount(expected, found ? 1 : 0)
    if (!found) return SKIPPED
    if (found[width + 1] !== 't') throw changedBefore(expected, found, found[width])
    if (found[width + 2] !== 't')
      return { matched: 1, changed: 0, row: found.slice(0, width), guard: found[width] ?? null }
    // It could be written by now, and is locked.
    rows = await write()
    if (rows.length === 0) throw new RowNotWritten(`${what}: a record was found, and not written.`)
  }
  const [row = []] = rows
  assertCount(expected, rows.length)
  assertRule(expected, row[given + 1])
  return { matched: rows.length, changed: rows.length, row: row.slice(0, given), guard: row[given] ?? null }
}

/** What a step wrote: behind the values before stand thirteen flags, and behind those the values after, of which `touched` says the places. */
export function writtenBy(rows: readonly Row[], expected: WriteExpected & { touched: readonly number[] }): Step {
  const { what, width, touched } = expected
  const [row = []] = rows
  const [, , , , guardBefore = null, guardAfter = null, matched, changed, refused, unwritten, rule, , leavesOut] =
    row.slice(width, width + FLAGS)
  const counts = { matched: Number(matched ?? 0), changed: Number(changed ?? 0) }
  assertCount(expected, counts.matched)
  if (rows.length === 0) return { ...counts, row: [], guard: null }
  if (Number(refused) > 0) throw changedBefore(expected, row, guardBefore)
  if (leavesOut === 'f')
    throw new CountMismatch(
      `${what}: the condition leaves out none of ${counts.matched} rows.`,
      'some left out',
      counts.matched,
    )
  if (Number(unwritten) > 0) throw new RowNotWritten(`${what}: a record was found, and not written.`)
  assertRule(expected, rule)
  const now = row.slice(0, width)
  touched.forEach((place, at) => {
    if (row[width + 3] === 't') now[place] = row[width + FLAGS + at] ?? null
  })
  return { ...counts, row: now, guard: guardAfter ?? guardBefore }
}

/** What an addition or change gave; asked again where that is nothing, since somebody may have added the record meanwhile. @throws RowNotWritten */
export async function addedOrChanged(what: string, ask: () => Promise<Row[]>): Promise<Row[]> {
  const rows = await ask()
  if (rows.length > 0) return rows
  const again = await ask()
  if (again.length === 0) throw new RowNotWritten(`${what}: the record is not there, and was not added.`)
  return again
}

/** That a record is not as it was loaded, with what a step was to set of it. */
function changedBefore(
  { what, set, yours, loaded, letter }: WriteExpected,
  current: Row,
  guard: string | null | undefined,
): RecordChanged {
  const part = (from: Row) => Object.fromEntries(set.map(([name, place, read]) => [name, readOr(read, from[place])]))
  const message = `${what}: the record is not as it was loaded.`
  return new RecordChanged(message, part(loaded ?? []), yours, part(current), toGuard(guard, letter))
}

/** @throws RuleBroken where a number says which */
function assertRule({ rules }: WriteExpected, broken: string | null | undefined): void {
  if (broken === null || broken === undefined) return
  const [that, otherwise] = rules[Number(broken) - 1] ?? ['', '']
  throw new RuleBroken(otherwise, that)
}

function readOr(read: Read, text: string | null | undefined): unknown {
  return text === null || text === undefined ? null : read(text)
}

const FLAGS = 13

/** Whether two exact numbers, in PostgreSQL's text form, compare so. Without one of them nothing is true of both. */
export function numbersAre(
  one: string | null,
  operator: '=' | '<>' | '<' | '<=' | '>' | '>=',
  other: string | null,
): boolean {
  if (one === null || other === null) return false
  const order = compareNumbers(one, other)
  if (operator === '<>') return order !== 0
  return (
    (order === 0 && operator.includes('=')) ||
    (order < 0 && operator.startsWith('<')) ||
    (order > 0 && operator.startsWith('>'))
  )
}

/** Below 0, 0 or above: of numeric, NaN is the same as itself and above all else (PostgreSQL, "Arbitrary Precision Numbers"). */
function compareNumbers(one: string, other: string): number {
  const [left, right] = [rankOf(one), rankOf(other)]
  if (left !== right || left !== 0) return left - right
  const [first, second] = [decimalOf(one), decimalOf(other)]
  const scale = first.scale > second.scale ? first.scale : second.scale
  const difference = first.digits * 10n ** (scale - first.scale) - second.digits * 10n ** (scale - second.scale)
  return difference === 0n ? 0 : difference < 0n ? -1 : 1
}

function rankOf(text: string): number {
  return { NaN: 2, Infinity: 1, '-Infinity': -1 }[text] ?? 0
}

function decimalOf(text: string): { digits: bigint; scale: bigint } {
  const [, sign, whole = '', fraction = '', exponent = '0'] =
    /^([+-]?)(\d*)(?:\.(\d*))?(?:[eE]([+-]?\d+))?$/.exec(text) ?? []
  const digits = BigInt(`0${whole}${fraction}`)
  return { digits: sign === '-' ? -digits : digits, scale: BigInt(fraction.length) - BigInt(exponent) }
}

/** Whether two texts are the same, or not. Without one of them nothing is true of both. */
export function textsAre(one: string | null, operator: '=' | '<>', other: string | null): boolean {
  return one !== null && other !== null && (one === other) === (operator === '=')
}

/** A parameter that has to be given. @throws ValueInvalid */
export function given(text: string | null, name: string): string {
  if (text === null) throw new ValueInvalid(name, 'a value')
  return text
}

/** @throws RuleBroken where a parameter breaks its rule */
export function assertParam(holds: boolean, name: string, rule: string): void {
  if (!holds) throw new RuleBroken(`The parameter :${name} breaks its rule: ${rule}.`, rule)
}

/** The same for all parameters, judged by the database. */
export function assertParams(rows: readonly Row[], rules: readonly (readonly [name: string, rule: string])[]): void {
  rules.forEach(([name, rule], at) => assertParam(rows[0]?.[at] === 't', name, rule))
}
