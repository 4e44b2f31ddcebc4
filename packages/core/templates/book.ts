import { AsyncLocalStorage } from 'node:async_hooks'
import { createHash, createHmac, randomUUID } from 'node:crypto'
import type { ClientBase } from 'pg'
import { ask, countOf, DataError, OutcomeUnknown, type Db, type Row, type Step } from './support.js'

interface Settings {
  /** Who changes records, where nobody is named with `asActor`. */
  actor: string
  /** The key that digests of sensitive values are made with: that of the service, so that both write the same. */
  digestKey?: Buffer | undefined
}

let settings: Settings = { actor: 'code' }
const actors = new AsyncLocalStorage<{ actor: string; note: string | null }>()

/** Says once for the program who changes records. */
export function configureBook(given: Partial<Settings>): void {
  settings = { ...settings, ...given }
}

/** Runs `work` for somebody: entries name them, and have the note. */
export function asActor<T>(actor: string, work: () => Promise<T>, note: string | null = null): Promise<T> {
  return actors.run({ actor, note }, work)
}

/** A statement as the book keeps it, once. */
export interface BookedStatement {
  kind: string
  mapping: string
  revision: number
  relation: string
  keyColumns: readonly string[]
  /** Whether it gives records another key. */
  movesKey?: boolean
  /** The columns whose images are kept, in order. */
  touched: readonly string[]
  text: string
  binds: readonly { name: string; type: string; sensitive: boolean }[]
  /** What it comes to, for people: shown first by whoever reads the book. */
  short?: { text: string; binds: readonly number[]; around: readonly string[] }
}

const ids = new Map<string, string>()
const MOST_KNOWN = 5_000
const MOST_BOOKS = 1_000

/** After how long it is looked whether a database still has the same book, in milliseconds. */
const BOOK_AGE_MS = 10_000

/** Which book it is: one that was made anew, or came with another database, knows no statements yet. */
const WHICH_BOOK = `select pg_catalog.concat_ws(' ', pg_catalog.pg_postmaster_start_time(), d.oid, pg_catalog.to_regclass('ledgerman.statement')::oid)
from pg_catalog.pg_database d where d.datname = pg_catalog.current_database()`
const books = new WeakMap<object, { which: Promise<Row[]>; askedAt: number }>()
const introduced = new Map<string, Set<string>>()

/** The statements that are known to stand in the book of this database. */
async function knownIn(db: Db): Promise<Set<string>> {
  let book = books.get(db)
  if (!book || performance.now() - book.askedAt > BOOK_AGE_MS) {
    book = { which: ask(db, WHICH_BOOK, []), askedAt: performance.now() }
    books.set(db, book)
    book.which.catch(() => books.delete(db))
  }
  const which = String((await book.which)[0]?.[0])
  let known = introduced.get(which)
  if (introduced.size > MOST_BOOKS) introduced.clear()
  if (!known || known.size > MOST_KNOWN) introduced.set(which, (known = new Set()))
  return known
}

/**
 * Its number in the book: 63 bits of a digest of its text, of what it belongs to, and of the columns whose images it keeps; negative where it
 * gives records another key.
 */
function idOf({ kind, mapping, revision, relation, text, touched, movesKey }: BookedStatement): string {
  const of = mapping === '' ? ['', '', ''] : [mapping, revision, relation]
  const source = [kind, ...of, text, ...touched].join('\0')
  let id = ids.get(source)
  if (id === undefined) {
    if (ids.size > MOST_KNOWN) ids.clear()
    const number = createHash('sha256').update(source).digest().readBigUInt64BE() >> 1n
    id = String(movesKey ? -1n - number : number)
    ids.set(source, id)
  }
  return id
}

/** Sees to it that these statements stand in the book before an entry refers to them: once a process and book, so it costs a change nothing. */
export async function introduce(db: Db, statements: readonly BookedStatement[]): Promise<void> {
  const known = await knownIn(db)
  const unknown = statements.filter((each) => !known.has(idOf(each)))
  if (unknown.length === 0) return
  const rows = unknown.map(({ keyColumns, binds, movesKey, ...each }) => ({
    ...each,
    id: idOf({ keyColumns, binds, ...each, ...(movesKey ? { movesKey } : {}) }),
    key_columns: keyColumns,
    binds: binds.map(({ name, type }) => ({ name, type })),
  }))
  await ask(
    db,
    `insert into ledgerman.statement select * from pg_catalog.jsonb_to_recordset($1::jsonb)
as x(id bigint, kind text, mapping text, revision integer, relation text, key_columns text[], touched text[], text text, binds jsonb, short jsonb)
on conflict (id) do nothing`,
    [JSON.stringify(rows)],
  ).catch((error: unknown) => {
    throw isOfAnotherBook(error)
      ? new Error('This database has no book, or one of another version: prepare it with ledgerman book prepare.', {
          cause: error,
        })
      : error
  })
  // In somebody else's transaction they may be rolled back.
  if (!('totalCount' in db)) return
  for (const { id } of rows) known.add(id)
}

/** Whether a table, a column or the schema of the book is not there (PostgreSQL, "Error Codes", class 42 and 3F). */
function isOfAnotherBook(error: unknown): boolean {
  return ['42601', '42703', '42P01', '3F000'].includes(String((error as { code?: unknown }).code))
}

/** A UUID of version 7 (RFC 9562, section 5.7): in order of time. */
export function newEntryId(): string {
  const time = Date.now().toString(16).padStart(12, '0')
  // Behind the time it is random, as one of version 4 is.
  return `${time.slice(0, 8)}-${time.slice(8)}-7${randomUUID().slice(15)}`
}

function digest(text: string): string {
  return `hmac:${createHmac('sha256', digestKey()).update(text).digest('hex').slice(0, 32)}`
}

function digestKey(): Buffer {
  if (settings.digestKey) return settings.digestKey
  throw new Error('A sensitive value is kept as a digest only: give configureBook the digestKey of the service.')
}

/** The inner and the outer padded key of RFC 2104, for digests that the database makes. */
export function digestPads(): string {
  const padded = Buffer.alloc(64)
  digestKey().copy(padded)
  const pad = (byte: number) => `"\\\\x${Buffer.from(padded.map((each) => each ^ byte)).toString('hex')}"`
  return `{${pad(0x36)},${pad(0x5c)}}`
}

/** Values as the book may keep them. */
export function kept(row: Row, sensitive: readonly boolean[]): (string | null)[] {
  return row.map((text, at) => (sensitive[at] && text !== null ? digest(text) : text))
}

function arrayText(texts: readonly (string | null)[]): string {
  const items = texts.map((text) => (text === null ? 'NULL' : `"${text.replace(/["\\]/g, '\\$&')}"`))
  return `{${items.join(',')}}`
}

export interface RecordEntry {
  statement: BookedStatement
  values: readonly (string | null)[]
  key: readonly (string | null)[]
  /** The SQL that writes a key as PostgreSQL does: of $1, a list of texts. */
  keySql: string
  /** Whether a value of the record must not be shown. */
  isSensitive: boolean
  /** Whether the statement makes digests of such values. */
  isDigested: boolean
}

/**
 * The part of a statement that writes the entry of its record, behind `at` values of its own: `entryValues` gives those that it needs.
 *
 * @param parts SQL: the key and the images, as arrays; whether the row was written, null where each was; where they come from, and when there is an entry
 */
export function entryPart(
  at: number,
  parts: {
    key: string | null
    before: string | null
    after: string | null
    written: string | null
    from: string
    where: string
  },
): string {
  const { key, before, after, written, from, where } = parts
  const image = (sql: string | null) =>
    sql === null || written === null ? String(sql) : `case when ${written} then ${sql} end`
  return `, booked as (
  insert into ledgerman.entry (id, at, actor, outcome, statement, binds, note, record, key, matched, changed, before, after)
  select $${at + 1}::uuid, pg_catalog.clock_timestamp(), $${at + 2}::text, 'committed', $${at + 3}::bigint, $${at + 4}::text[], $${at + 5}::text,
    ${key === null ? 'null, null' : `pg_catalog.hash_array_extended(${key}, 0), ${key}`}, 1, ${written === null ? '1' : `case when ${written} then 1 else 0 end`},
    ${image(before)},
    ${image(after)}
  from ${from}
  where ${where}
)`
}

/** What `entryPart` binds. An entry has an id of its own, each time it is tried. */
export function entryValues({ statement, values, isDigested }: RecordEntry): (string | null)[] {
  const { actor, note } = current()
  const sensitive = statement.binds.map((bind) => bind.sensitive)
  const own = [newEntryId(), actor, idOf(statement), arrayText(kept(values, sensitive)), note]
  return isDigested ? [...own, digestPads()] : own
}

/** Runs `work`, and keeps in the book why it was refused, after its roll-back. In somebody else's transaction nothing can be kept. */
export async function keepingRefusals<T>(db: Db, what: RecordEntry | Run, work: () => Promise<T>): Promise<T> {
  try {
    return await work()
  } catch (error) {
    const isRefused = error instanceof DataError && !(error instanceof OutcomeUnknown) && error.code !== 'value-invalid'
    // The refusal is what the caller has to hear, whether it can be kept or not.
    if (isRefused && 'totalCount' in db) await bookRefusal(db, what, error).catch(() => undefined)
    throw error
  }
}

/** The words of a refusal without values that must not be shown: in those of somebody's function one may stand anywhere. */
function withoutValues({ message, cause }: DataError): string {
  const said = cause as { routine?: string; message: string } | undefined
  const told = said?.routine === 'exec_stmt_raise' ? message.replaceAll(said.message, '…') : message
  const [from, to] = [told.indexOf('=('), told.lastIndexOf(')')]
  return (from < 0 || to < from ? told : `${told.slice(0, from)}=(…)${told.slice(to + 1)}`).replace(/'[^']*'/g, '…')
}

async function bookRefusal(db: Db, what: RecordEntry | Run, error: DataError): Promise<void> {
  const { actor, note } = current()
  const isRun = what instanceof Run
  const sensitive = isRun ? [] : what.statement.binds.map((bind) => bind.sensitive)
  // A sensitive key has no text that may be kept.
  const key = isRun || what.key.length === 0 ? 'null::text[]' : what.keySql
  await ask(
    db,
    `insert into ledgerman.entry (id, actor, outcome, statement, binds, note, record, key, changed, problem, detail, run, steps)
select $2::uuid, $3, 'refused', $4::bigint, $5::text[], $6, pg_catalog.hash_array_extended(k.key, 0), k.key, 0, $7, $8, $9::jsonb, $10::json
from (select case when $1::text[] is not null then ${key} end as key) as k
on conflict (id) do nothing`,
    [
      isRun ? null : arrayText(what.key),
      isRun ? what.id : newEntryId(),
      actor,
      isRun ? null : idOf(what.statement),
      isRun ? null : arrayText(kept(what.values, sensitive)),
      note,
      error.code,
      isRun || what.isSensitive ? withoutValues(error) : error.message,
      isRun ? JSON.stringify(what.told(null)) : null,
      isRun ? JSON.stringify(what.toldSteps(false)) : null,
    ],
  )
}

function current(): { actor: string; note: string | null } {
  return actors.getStore() ?? { actor: settings.actor, note: null }
}

export interface RunDefinition {
  transaction: string
  revision: number
  isolation: string
  definitions: Readonly<Record<string, number>>
  steps: readonly {
    no: number
    name: string | null
    expected: string
    statement: BookedStatement
    writes: boolean
    reversible: 'yes' | 'partly' | 'no'
  }[]
}

/** A run on its way: what its steps were given, and what came of them. */
export class Run {
  readonly definition: RunDefinition
  id = newEntryId()
  readonly #startedAt = new Date().toISOString()
  #started = performance.now()
  readonly #done = new Map<
    number,
    { values: (string | null)[]; matched: number | null; changed: number | null; ms: number }
  >()

  constructor(definition: RunDefinition) {
    this.definition = definition
  }

  /** Begins again, after an attempt that was rolled back. */
  begin(): this {
    this.#started = performance.now()
    this.#done.clear()
    this.id = newEntryId()
    return this
  }

  async ask(client: ClientBase, no: number, text: string, values: readonly (string | null)[]): Promise<Row[]> {
    const started = performance.now()
    this.#done.set(no, { values: [...values], matched: null, changed: null, ms: 0 })
    const rows = await ask(client, text, values)
    this.#done.set(no, { values: [...values], matched: null, changed: null, ms: performance.now() - started })
    return rows
  }

  async holds(client: ClientBase, no: number, text: string, values: readonly (string | null)[]): Promise<boolean> {
    const [row = []] = await this.ask(client, no, text, values)
    return row[0] === 't'
  }

  /** What a step came to without a statement; undefined where it needs one. */
  known<T>(no: number, values: readonly (string | null)[], result: T): T {
    if (result !== undefined) this.#done.set(no, { values: [...values], matched: null, changed: null, ms: 0 })
    return result
  }

  async countOf(client: ClientBase, no: number, text: string, values: readonly (string | null)[]): Promise<number> {
    const started = performance.now()
    const count = await countOf(client, text, values)
    this.#done.set(no, { values: [...values], matched: null, changed: null, ms: performance.now() - started })
    return count
  }

  /** What came of a step. */
  tell<T extends Pick<Step, 'matched' | 'changed'>>(no: number, step: T): T {
    const done = this.#done.get(no) ?? { values: [], matched: null, changed: null, ms: 0 }
    this.#done.set(no, { ...done, matched: step.matched, changed: step.changed })
    return step
  }

  /** Writes the entry, in the run's own transaction. Its images were written by the steps themselves. */
  async book(client: ClientBase): Promise<void> {
    const { actor, note } = current()
    const total = (of: 'matched' | 'changed') =>
      String(
        this.definition.steps.reduce((sum, { no, writes }) => sum + (writes ? (this.#done.get(no)?.[of] ?? 0) : 0), 0),
      )
    await ask(
      client,
      `insert into ledgerman.entry (id, at, actor, outcome, note, matched, changed, run, steps)
values ($1::uuid, pg_catalog.clock_timestamp(), $2, 'committed', $3, $4::integer, $5::integer, $6::jsonb, $7::json)`,
      [
        this.id,
        actor,
        note,
        total('matched'),
        total('changed'),
        JSON.stringify(this.told(performance.now() - this.#started)),
        JSON.stringify(this.toldSteps(true)),
      ],
    )
  }

  /** What the book says of the run; of one that was refused, with no time and nothing to put back. */
  told(durationMs: number | null): object {
    const { transaction, revision, isolation, definitions } = this.definition
    return {
      transaction,
      revision,
      isolation,
      attempts: 1,
      durationMs: durationMs && Math.round(durationMs * 10) / 10,
      startedAt: this.#startedAt,
      reversible: durationMs === null ? null : this.#reversible(),
      definitions,
    }
  }

  #reversible(): 'yes' | 'partly' | 'no' {
    const wrote = this.definition.steps
      .filter(({ no, writes }) => writes && (this.#done.get(no)?.changed ?? 0) > 0)
      .map(({ reversible }) => reversible)
    if (wrote.every((each) => each === 'yes')) return 'yes'
    return wrote.every((each) => each === 'no') ? 'no' : 'partly'
  }

  /** Its steps; of a run that was refused, as far as it came. */
  toldSteps(isWhole: boolean): object[] {
    const last = Math.max(0, ...this.#done.keys())
    const steps = this.definition.steps.filter(({ no }) => isWhole || no <= last)
    return steps.map(({ no, name, expected, statement }) => {
      const done = this.#done.get(no)
      const values = done?.values.slice(0, statement.binds.length) ?? []
      return {
        no,
        name,
        statement: idOf(statement),
        binds: kept(
          values,
          statement.binds.map(({ sensitive }) => sensitive),
        ),
        expected,
        matched: done?.matched ?? null,
        changed: done?.changed ?? null,
        skipped: done === undefined,
        duration_ms: done ? Math.round(done.ms * 10) / 10 : null,
      }
    })
  }
}
