import type { LedgermanProblem } from '@ledgerman/contract'
import { isDatabaseError } from '../sessions/database-error.js'
import type { Mapping } from '../mapping/mapping.js'
import { recordHashSql } from '../statement/book-sql.js'
import { canonicalKeySql } from '../statement/canonical-key.js'
import type { Target } from '../target/target.js'

/**
 * A run that was rolled back, as the book keeps it. Its moment is the database's own, when it is written: one that this machine's clock
 * gave could be from before a seal that looked at it, and would pass for an entry put in past Ledgerman.
 */
export interface Refusal {
  id: string
  actor: string
  note: string | null
  problem: LedgermanProblem
  /** The problem's words, without what must not be kept. */
  detail: string
  matched: number | null
  /** Of a keyed change: its record, and the statement's number and binds where one was sent. */
  record?: { mapping: Mapping; key: readonly (string | null)[] } | undefined
  statement?: string | null
  binds?: readonly (string | null)[] | null
  /** Of a run of several steps: what the entry says of it, and of each step. */
  run?: object
  steps?: readonly object[]
}

interface Unwritten {
  refusal: Refusal
  resolve: (isBooked: boolean) => void
}

/** How many refusals are written by one statement at most, and how many of those are on their way at once. */
const MOST_TOGETHER = 100
const MOST_ON_THE_WAY = 2

/**
 * Writes a refused run to the book, after its roll-back. Where that cannot be done the refusal stands all the same: it is
 * what the caller has to hear.
 *
 * Many are refused at one moment where they all waited for one lock: they are written together, so that what they cost is not
 * taken from others.
 *
 * @returns whether it stands there now.
 */
export function recordRefusal(target: Target, refusal: Refusal): Promise<boolean> {
  let queue = queues.get(target)
  if (!queue) queues.set(target, (queue = new RefusalQueue(target)))
  return queue.add(refusal)
}

const queues = new WeakMap<Target, RefusalQueue>()

class RefusalQueue {
  #waiting: Unwritten[] = []
  #onTheWay = 0

  constructor(readonly target: Target) {}

  add(refusal: Refusal): Promise<boolean> {
    return new Promise((resolve) => {
      this.#waiting.push({ refusal, resolve })
      // All who are refused in this turn of the event loop go together.
      if (this.#waiting.length === 1) setImmediate(() => this.#next())
    })
  }

  #next(): void {
    while (this.#onTheWay < MOST_ON_THE_WAY && this.#waiting.length > 0) {
      this.#onTheWay++
      void this.#write(this.#take()).finally(() => {
        this.#onTheWay--
        this.#next()
      })
    }
  }

  /** The first who waits, and who can be written with it: keys of other tables are read as other types. */
  #take(): Unwritten[] {
    const sql = insertSql(this.#waiting[0]?.refusal)
    const taken: Unwritten[] = []
    const left: Unwritten[] = []
    for (const each of this.#waiting)
      (taken.length < MOST_TOGETHER && insertSql(each.refusal) === sql ? taken : left).push(each)
    this.#waiting = left
    return taken
  }

  async #write(together: readonly Unwritten[]): Promise<void> {
    const isWritten = await this.#insert(together)
    if (isWritten || together.length === 1) return together.forEach(({ resolve }) => resolve(isWritten))
    // One of them may be what cannot be written.
    for (const each of together) each.resolve(await this.#insert([each]))
  }

  async #insert(together: readonly Unwritten[]): Promise<boolean> {
    const refusals = together.map(({ refusal }) => refusal)
    const insert = (rows: string) => this.target.query(insertSql(refusals[0]), [rows])
    try {
      await insert(toJson(refusals.map(toRow))).catch((error: unknown) => {
        if (!isDatabaseError(error) || error.code !== UNTRANSLATABLE) throw error
        return insert(inAscii(refusals.map(toRow)))
      })
      return true
    } catch {
      return false
    }
  }
}

/** A run that was settled as refused stands there already. */
function insertSql(refusal: Refusal | undefined): string {
  const mapping = refusal?.record?.mapping
  const key = mapping ? canonicalKeySql(mapping, 'e.key', null) : 'null::text[]'
  return `insert into ledgerman.entry (id, actor, outcome, statement, binds, note, record, key, matched, changed, problem, detail, run, steps)
select e.id, e.actor, 'refused', e.statement, e.binds, e.note, ${mapping ? recordHashSql(key) : 'null'}, ${key}, e.matched, 0, e.problem, e.detail, e.run, e.steps
from pg_catalog.json_to_recordset($1::json) as e(id uuid, actor text, statement bigint, binds text[], note text,
  key text[], matched integer, problem text, detail text, run jsonb, steps json)
on conflict (id) do nothing`
}

function toRow({ id, actor, note, problem, detail, matched, ...more }: Refusal) {
  const { record, statement = null, binds = null, run, steps } = more
  const key = record?.key ?? null
  return { id, actor, note, matched, problem: problem.code, detail, key, statement, binds, run, steps }
}

/** What the database says of a character that its encoding does not have (PostgreSQL, "Error Codes"). */
const UNTRANSLATABLE = '22P05'

/** Rows for a database that does not have all characters: a question mark for each that not every encoding has, and no key that needs one. */
function inAscii(rows: readonly { key: readonly (string | null)[] | null }[]): string {
  const isPlain = (text: string | null) => text === null || !/[^\0-\x7f]/.test(text)
  return toJson(rows.map((row) => ({ ...row, key: row.key?.every(isPlain) ? row.key : null }))).replace(
    /[^\0-\x7f]/gu,
    '?',
  )
}

/** JSON that PostgreSQL can read, whatever a caller sent: no NUL, and no half of a surrogate pair. */
function toJson(rows: readonly object[]): string {
  return JSON.stringify(rows, (_, value: unknown) =>
    typeof value === 'string' ? Buffer.from(value.replaceAll('\0', '')).toString() : value,
  )
}
