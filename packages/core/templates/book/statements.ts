import { createHash } from 'node:crypto'
import { ask, type Db, type Row } from '../support/ask.js'

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

const ids = new WeakMap<BookedStatement, string>()
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

/** Its number in the book: worked out once, as the code of a change holds the same statement each time. */
export function idOf(statement: BookedStatement): string {
  let id = ids.get(statement)
  if (id === undefined) ids.set(statement, (id = numberOf(statement)))
  return id
}

/**
 * 63 bits of a digest of its text, of what it belongs to, of what its binds are called, and of the columns whose images it keeps;
 * negative where it gives records another key.
 */
function numberOf({ kind, mapping, revision, relation, text, binds, touched, movesKey }: BookedStatement): string {
  const of = mapping === '' ? ['', '', ''] : [mapping, revision, relation]
  const source = [kind, ...of, text, ...binds.map(({ name }) => name), ...touched].join('\0')
  const number = createHash('sha256').update(source).digest().readBigUInt64BE() >> 1n
  return String(movesKey ? -1n - number : number)
}

/** Sees to it that these statements stand in the book before an entry refers to them: once a process and book, so it costs a change nothing. */
export async function introduce(db: Db, statements: readonly BookedStatement[]): Promise<void> {
  const known = await knownIn(db)
  const unknown = statements.filter((each) => !known.has(idOf(each)))
  if (unknown.length === 0) return
  const rows = unknown.map((each) => ({
    kind: each.kind,
    mapping: each.mapping,
    revision: each.revision,
    relation: each.relation,
    touched: each.touched,
    text: each.text,
    short: each.short,
    id: idOf(each),
    key_columns: each.keyColumns,
    binds: each.binds.map(({ name, type }) => ({ name, type })),
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
