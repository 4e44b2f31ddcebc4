// Written by Ledgerman: statements, asked with values bound, and what the errors of the database mean.
import { createHash } from 'node:crypto'
import type { ClientBase, Pool, QueryResult } from 'pg'
import { ConstraintBroken, LockTimeout, TimeLimit, ValueInvalid } from './errors.js'

/** A pool, on which each call is a transaction of its own; or a client inside a transaction that the caller has begun. */
export type Db = Pool | ClientBase

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

/** Whether statements are prepared: a long one that is planned each time costs more than it saves. */
export function arePrepared(): boolean {
  return isPreparing
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
  // Of its own each time, as some versions of the driver write in it; the values apart, as it copies each member.
  const query = { name, text, rowMode: 'array' as const, types: asText }
  try {
    return ((await db.query(query as never, values as never)) as unknown as QueryResult & { rows: Row[] }).rows
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

export function isPool(db: Db): db is Pool {
  return 'totalCount' in db
}

export function isDatabaseError(
  error: unknown,
): error is Error & { code: string; severity: string; constraint?: string; routine?: string } {
  return error instanceof Error && 'severity' in error && 'code' in error
}

export function isRetryable(error: unknown): boolean {
  return isDatabaseError(error) && (error.code === '40001' || error.code === '40P01')
}

/** Whether the connection ended with it (PostgreSQL, "Error Codes", 57P01 and those beside it): what was being committed may be. */
export function endsConnection(error: unknown): boolean {
  return isDatabaseError(error) && /^(?:57P|08)/.test(error.code)
}

/** Whether what a connection has prepared no longer fits the table, which was altered since; prepared afresh it runs. */
export function isStalePlan(error: unknown): boolean {
  return isDatabaseError(error) && error.code === '0A000' && error.routine === 'RevalidateCachedQuery'
}

/** An error of the database in these words; others, and those that are tried again, as they are. */
export function explained(error: unknown): unknown {
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
