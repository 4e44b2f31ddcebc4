import type { PlannedStep } from '../../plan/plan.js'
import { withPrefix, type Statement } from '../../statement/statement.js'
import type { Rows } from '../../sessions/queryable.js'
import type { Session } from '../../sessions/session-pool.js'

/** How much of a raw statement's result is looked at: the rest is counted where it is, and never sent. */
const MOST_ROWS = 1_000
const ROWS_AT_A_TIME = 50
const ENOUGH_BYTES = 1_000_000

/** What it may send at most: one row can be larger than all that should have been. */
const MOST_BYTES = 16_000_000

/** What a raw statement gave: its first rows, and how many there were in all. */
export interface RawResult {
  rows: Rows['rows']
  /** The names of its columns, in order. */
  columns: string[]
  matched: number
  changed: number
}

/**
 * Runs a raw statement in a transaction. What only reads is read through a cursor, so that only its first rows leave the server,
 * however many there are.
 *
 * @throws LedgermanProblem too-large
 */
export function runRawStatement(
  session: Session,
  step: Extract<PlannedStep, { kind: 'sql' }>,
  values: readonly (string | null)[],
): Promise<RawResult> {
  return session.withinBytes(MOST_BYTES, () =>
    step.writes ? runWriting(session, step, values) : runReading(session, step, values),
  )
}

/** The statement as it goes to the server: errors tell places in that. */
export function sentStatement({ statement, writes }: Extract<PlannedStep, { kind: 'sql' }>): Statement {
  return writes ? statement : withPrefix(CURSOR, statement)
}

async function runWriting(
  session: Session,
  { statement }: Extract<PlannedStep, { kind: 'sql' }>,
  values: readonly (string | null)[],
): Promise<RawResult> {
  const { rows, fields, rowCount, command } = await session.query(statement.text, values)
  const matched = command === 'SELECT' ? rows.length : (rowCount ?? rows.length)
  return {
    rows: rows.slice(0, MOST_ROWS),
    columns: namesOf(fields),
    matched,
    changed: command === 'SELECT' ? 0 : matched,
  }
}

async function runReading(
  session: Session,
  step: Extract<PlannedStep, { kind: 'sql' }>,
  values: readonly (string | null)[],
): Promise<RawResult> {
  await session.query(sentStatement(step).text, values)
  const rows: Rows['rows'] = []
  let columns: string[] = []
  let bytes = 0
  let isEnd = false
  while (!isEnd && rows.length < MOST_ROWS && bytes < ENOUGH_BYTES) {
    const fetched = await session.query(`fetch ${rows.length === 0 ? 1 : ROWS_AT_A_TIME} from ledgerman_raw`)
    rows.push(...fetched.rows)
    columns = namesOf(fetched.fields)
    for (const row of fetched.rows) for (const text of row) bytes += text?.length ?? 0
    isEnd = fetched.rows.length < (rows.length === fetched.rows.length ? 1 : ROWS_AT_A_TIME)
  }
  const left = isEnd ? 0 : ((await session.query('move forward all in ledgerman_raw')).rowCount ?? 0)
  await session.query('close ledgerman_raw')
  return { rows, columns, matched: rows.length + left, changed: 0 }
}

function namesOf(fields: Rows['fields'] = []): string[] {
  return fields.map(({ name }) => name)
}

const CURSOR = 'declare ledgerman_raw no scroll cursor for '
