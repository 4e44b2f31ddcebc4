import { randomUUID } from 'node:crypto'
import type pg from 'pg'

/** What a careful program does without Ledgerman: three round trips, no audit. Gives the row as it is now. */
export async function changeByHand(
  pool: pg.Pool,
  id: number,
  version: number,
  hours: string,
): Promise<Record<string, unknown> | undefined> {
  const client = await pool.connect()
  try {
    await client.query('begin')
    const { rows, rowCount } = await client.query<Record<string, unknown>>({
      name: 'change',
      text: 'update allocation set hours = $2, row_version = row_version + 1 where id = $1 and row_version = $3 returning id, code, title, hours, priority, note, row_version',
      values: [id, hours, version],
    })
    if (rowCount !== 1) throw new Error('stale')
    await client.query('commit')
    return rows[0]
  } catch (error) {
    await client.query('rollback')
    throw error
  } finally {
    client.release()
  }
}

/** A change with an audit row that holds what an entry of the book holds: the row before is read and locked first. */
export async function changeByHandWithAudit(pool: pg.Pool, id: number, version: number, hours: string): Promise<void> {
  const client = await pool.connect()
  try {
    await client.query('begin')
    const before = await client.query<{ hours: string; row_version: number }>({
      name: 'lock',
      text: 'select id, code, title, hours, priority, note, row_version from allocation where id = $1 for no key update',
      values: [id],
    })
    if (before.rows[0]?.row_version !== version)
      throw new Error(`stale: ${JSON.stringify(before.rows)} is not ${version}`)
    const after = await client.query<{ hours: string; row_version: number }>({
      name: 'change-locked',
      text: 'update allocation set hours = $2, row_version = row_version + 1 where id = $1 returning id, code, title, hours, priority, note, row_version',
      values: [id, hours],
    })
    const image = (row: { hours: string; row_version: number } | undefined) =>
      JSON.stringify({ hours: row?.hours, row_version: String(row?.row_version) })
    await client.query({
      name: 'audit',
      text: 'insert into audit.entry (id, actor, statement, binds, key, matched, changed, before, after) values ($1, $2, $3, $4, $5, 1, 1, $6, $7)',
      values: [
        randomUUID(),
        'bench',
        '1',
        [hours, String(id), String(version), 'bench'],
        [String(id)],
        image(before.rows[0]),
        image(after.rows[0]),
      ],
    })
    await client.query('commit')
  } catch (error) {
    await client.query('rollback')
    throw error
  } finally {
    client.release()
  }
}

export async function loadByHand(pool: pg.Pool, id: number): Promise<Record<string, unknown> | undefined> {
  const { rows } = await pool.query<Record<string, unknown>>({
    name: 'load',
    text: 'select id, code, title, hours, priority, note, row_version from allocation where id = $1',
    values: [id],
  })
  return rows[0]
}
