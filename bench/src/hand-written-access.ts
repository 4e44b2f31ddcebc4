import { randomUUID } from 'node:crypto'
import type pg from 'pg'

// What written code does, written by hand for one table and one property: records of a type, values that the column would round refused,
// waits that end, rows written only where they differ and counted, why one was not written, and COMMIT's tag.

/** A transaction whose waits have an end. */
export const BEGIN_BOUNDED = 'begin; set local lock_timeout = 2000; set local statement_timeout = 10000'

export interface Allocation {
  readonly id: number
  code: string
  title: string
  hours: string
  priority: number
  note: string | null
  readonly rowVersion: number
}

/** What a change needs of the record that was shown. */
export type Shown = Pick<Allocation, 'id' | 'rowVersion'>

type Row = Omit<Allocation, 'rowVersion'> & { row_version: number }

const COLUMNS = 'id, code, title, hours, priority, note, row_version'
const HOURS = /^\d{1,6}(?:\.\d{1,2})?$/

const LOAD = { name: 'load-allocation', text: `select ${COLUMNS} from allocation where id = $1` }
const CHANGE = {
  name: 'change-hours',
  text: `update allocation set hours = $3, row_version = row_version + 1 where id = $1 and row_version = $2 and hours is distinct from $3 returning ${COLUMNS}`,
}
const LOCK = { name: 'lock-allocation', text: `${LOAD.text} for no key update` }
const AUDIT = {
  name: 'audit',
  text: 'insert into audit.entry (id, actor, statement, binds, key, matched, changed, before, after) values ($1, $2, $3, $4, $5, 1, 1, $6, $7)',
}
const AUDIT_RUN = {
  name: 'audit-run',
  text: `insert into audit.entry (id, actor, statement, matched, changed) values ($1, 'bench', 1, 2, $2)`,
}

function allocationOf(row: Row): Allocation {
  const { id, code, title, hours, priority, note, row_version: rowVersion } = row
  return { id, code, title, hours, priority, note, rowVersion }
}

/** @throws RangeError rather than have the column round it */
function assertHours(hours: string): void {
  if (!HOURS.test(hours)) throw new RangeError(`hours: at most 6 digits before and 2 behind the point, not ${hours}`)
}

function assertId(id: number): void {
  if (!Number.isInteger(id)) throw new RangeError(`id: a whole number, not ${id}`)
}

export async function loadAllocation(pool: pg.Pool, id: number): Promise<Allocation> {
  assertId(id)
  const { rows } = await pool.query<Row>({ ...LOAD, values: [id] })
  const [row] = rows
  if (row === undefined) throw new Error(`there is no allocation ${id}`)
  return allocationOf(row)
}

/** Changes the hours of an allocation that is still as it was shown; three round trips. */
export async function changeHours(pool: pg.Pool, shown: Shown, hours: string): Promise<Allocation> {
  assertHours(hours)
  return inTransaction(pool, BEGIN_BOUNDED, async (client) => {
    const { rows } = await client.query<Row>({ ...CHANGE, values: [shown.id, shown.rowVersion, hours] })
    return rows[0] ? allocationOf(rows[0]) : asItIs(client, shown)
  })
}

/** The same where each connection of the pool bounds its waits: one statement. */
export async function changeHoursAlone(pool: pg.Pool, shown: Shown, hours: string): Promise<Allocation> {
  assertHours(hours)
  const { rows } = await pool.query<Row>({ ...CHANGE, values: [shown.id, shown.rowVersion, hours] })
  return rows[0] ? allocationOf(rows[0]) : asItIs(pool, shown)
}

/** The same with an audit row that holds what an entry of the book holds: the row before is read and locked first. */
export async function changeHoursWithAudit(
  pool: pg.Pool,
  shown: Shown,
  hours: string,
  begin: string,
): Promise<Allocation> {
  assertHours(hours)
  return inTransaction(pool, begin, async (client) => {
    const { rows: locked } = await client.query<Row>({ ...LOCK, values: [shown.id] })
    const [before] = locked
    if (before?.row_version !== shown.rowVersion) return asItIs(client, shown)
    const { rows } = await client.query<Row>({ ...CHANGE, values: [shown.id, shown.rowVersion, hours] })
    const [after] = rows
    if (after === undefined) return allocationOf(before)
    const binds = [hours, String(shown.id), String(shown.rowVersion), 'bench']
    await client.query({
      ...AUDIT,
      values: [randomUUID(), 'bench', '1', binds, [String(shown.id)], imageOf(before), imageOf(after)],
    })
    return allocationOf(after)
  })
}

/** The row that was not written, where it has these hours already. @throws Error that it is missing, or not as it was shown */
async function asItIs(db: pg.Pool | pg.ClientBase, { id, rowVersion }: Shown): Promise<Allocation> {
  const { rows } = await db.query<Row>({ ...LOAD, values: [id] })
  const [row] = rows
  if (row === undefined) throw new Error(`there is no allocation ${id}`)
  if (row.row_version !== rowVersion) throw new Error(`allocation ${id} was changed: it is ${JSON.stringify(row)}`)
  return allocationOf(row)
}

/** Moves hours from one allocation to another, which has to have them; five round trips, eight with audit rows. */
export async function transferHours(
  pool: pg.Pool,
  { from, to, hours }: { from: number; to: number; hours: string },
  { begin, isAudited }: { begin: string; isAudited: boolean },
): Promise<{ matched: number; changed: number }> {
  assertId(from)
  assertId(to)
  assertHours(hours)
  if (!(Number(hours) > 0)) throw new RangeError('hours: more than none')
  return inTransaction(pool, begin, async (client) => {
    const { rows } = await client.query<Row & { is_enough: boolean }>({
      name: 'lock-both',
      text: `select ${COLUMNS}, hours >= $3 as is_enough from allocation where id in ($1, $2) order by id for no key update`,
      values: [from, to, hours],
    })
    const giver = rows.find(({ id }) => id === from)
    if (rows.length !== 2 || giver === undefined) throw new Error(`2 allocations were meant, ${rows.length} were found`)
    if (!giver.is_enough) throw new Error(`${giver.code} has too few`)
    const changes = [
      { id: from, sign: '-' },
      { id: to, sign: '+' },
    ]
    let changed = 0
    for (const { id, sign } of changes) {
      const { rows: written } = await client.query<Pick<Row, 'hours' | 'row_version'>>({
        name: `move ${sign}`,
        text: `update allocation set hours = hours ${sign} $2, row_version = row_version + 1 where id = $1 and hours is distinct from hours ${sign} $2 returning hours, row_version`,
        values: [id, hours],
      })
      changed += written.length
      if (!isAudited) continue
      const before = rows.find((row) => row.id === id)
      const binds = [[String(id), hours], [String(id)], imageOf(before), imageOf(written[0])]
      await client.query({ ...AUDIT, values: [randomUUID(), 'bench', '1', ...binds] })
    }
    if (isAudited) await client.query({ ...AUDIT_RUN, values: [randomUUID(), changed] })
    return { matched: rows.length, changed }
  })
}

function imageOf(row: Pick<Row, 'hours' | 'row_version'> | undefined): string {
  return JSON.stringify({ hours: row?.hours, row_version: String(row?.row_version) })
}

async function inTransaction<T>(pool: pg.Pool, begin: string, work: (client: pg.ClientBase) => Promise<T>): Promise<T> {
  const client = await pool.connect()
  try {
    await client.query(begin)
    const result = await work(client)
    const { command } = await client.query('commit')
    if (command !== 'COMMIT') throw new Error(`COMMIT was answered with ${command}`)
    return result
  } catch (error) {
    await client.query('rollback')
    throw error
  } finally {
    client.release()
  }
}
