import { Pool, type PoolClient } from 'pg'

declare const pool: Pool

export async function textTransaction(code: string): Promise<void> {
  const result = await pool.query(`begin; delete from budget where code = 'B-1'; commit`) // finds transaction-inside
  if (result.rowCount !== 1) throw new Error(code)
}

export async function kept(code: string): Promise<unknown> {
  const client = await pool.connect() // finds session-kept at 1
  const { rows } = await client.query('select code from budget where code = $1', [code])
  return rows[0]
}

export async function keptOnError(code: string): Promise<unknown> {
  const client = await pool.connect() // finds session-kept at 1
  const { rows } = await client.query('select code from budget where code = $1', [code])
  client.release()
  return rows[0]
}

export async function released(code: string): Promise<unknown> {
  const client = await pool.connect()
  try {
    const { rows } = await client.query('select code from budget where code = $1', [code])
    return rows[0]
  } finally {
    client.release()
  }
}

export async function ofThePool(code: string): Promise<unknown> {
  const { rows } = await pool.query('select code from budget where code = $1', [code])
  return rows[0]
}

export async function halves(from: string, to: string): Promise<void> {
  const taken = await pool.query('update budget set hours = hours - 1 where code = $1', [from]) // finds apart at 1
  const given = await pool.query('update budget set hours = hours + 1 where code = $1', [to])
  if (taken.rowCount !== 1 || given.rowCount !== 1) throw new Error('not both')
}

export async function together(from: string, to: string): Promise<void> {
  const client = await pool.connect()
  try {
    await client.query('begin')
    const taken = await client.query('update budget set hours = hours - 1 where code = $1', [from])
    const given = await client.query('update budget set hours = hours + 1 where code = $1', [to])
    if (taken.rowCount !== 1 || given.rowCount !== 1) throw new Error('not both')
    await client.query('commit')
  } catch (error) {
    await client.query('rollback')
    throw error
  } finally {
    client.release()
  }
}

export async function loop(codes: string[]): Promise<void> {
  for (const code of codes) {
    const { rowCount } = await pool.query('delete from budget where code = $1', [code]) // finds one-by-one
    if (rowCount !== 1) throw new Error(code)
  }
}

export async function once(codes: string[]): Promise<number | null> {
  const { rowCount } = await pool.query('delete from budget where code = any($1)', [codes])
  return rowCount
}

export async function lostUpdate(code: string, title: string): Promise<void> {
  const { rowCount } = await pool.query('update programme set title = $1 where code = $2', [title, code]) // finds unguarded-save
  if (rowCount !== 1) throw new Error(code)
}

export async function guardedUpdate(code: string, title: string, version: number): Promise<void> {
  const { rowCount } = await pool.query(
    'update programme set title = $1, row_version = row_version + 1 where code = $2 and row_version = $3',
    [title, code, version],
  )
  if (rowCount !== 1) throw new Error(code)
}

export async function fewValues(code: string): Promise<unknown> {
  return (await pool.query('select title from programme where code = $1 and id = $2', [code])).rows // finds parameter-count
}

export async function manyValues(code: string): Promise<unknown> {
  return (await pool.query('select title from programme where code = $1', [code, 2])).rows // finds parameter-count
}

export async function pasted(code: string): Promise<unknown> {
  return (await pool.query(`select title from programme where code = '${code}'`)).rows // finds value-in-text
}

export async function ordered(by: 'code' | 'title'): Promise<unknown> {
  const column = by === 'code' ? 'code' : 'title'
  return (await pool.query('select title from programme order by ' + column)).rows
}

export async function beganLater(client: PoolClient) {
  const before = await client.query('update budget set hours = hours - 1 where code = $1', ['a'])
  if (before.rowCount !== 1) throw new Error('no such budget')
  await client.query('BEGIN')
  const inside = await client.query('update budget set hours = hours + 1 where code = $1', ['b']) // finds never-committed
  if (inside.rowCount !== 1) throw new Error('no such budget')
}

export async function wroteBefore(client: PoolClient) {
  const before = await client.query('update budget set hours = hours - 1 where code = $1', ['a']) // sound never-committed
  if (before.rowCount !== 1) throw new Error('no such budget')
  await client.query('BEGIN')
  return client.query('select hours from budget where code = $1', ['a'])
}

export async function besideItsClient(one: string, other: string) {
  const client = await pool.connect()
  try {
    await client.query('BEGIN')
    const taken = await client.query('update budget set hours = hours - 1 where code = $1', [one])
    const given = await pool.query('update budget set hours = hours + 1 where code = $1', [other]) // finds apart
    if (taken.rowCount !== 1 || given.rowCount !== 1) throw new Error('no such budget')
    await client.query('COMMIT')
  } catch (error) {
    await client.query('ROLLBACK')
    throw error
  } finally {
    client.release()
  }
  return pool.query('insert into exposure (quality) values (1)') // sound apart
}

declare function inTransaction<T>(work: (client: PoolClient) => Promise<T>): Promise<T>

export async function besideItsCallback(one: string, other: string) {
  await inTransaction(async (client) => {
    const taken = await client.query('update budget set hours = hours - 1 where code = $1', [one])
    const given = await pool.query('update budget set hours = hours + 1 where code = $1', [other]) // finds apart
    if (taken.rowCount !== 1 || given.rowCount !== 1) throw new Error('no such budget')
  })
  return pool.query('insert into exposure (quality) values (1)') // sound apart
}
