import { Pool } from 'pg'

export async function beginInText(pool: Pool) {
  const { rowCount } = await pool.query(`begin; update budget set hours = 1 where code = 'B-1'; commit`) // finds transaction-inside
  if (rowCount !== 1) throw new Error('B-1')
}

export async function rollbackInText(pool: Pool) {
  await pool.query("delete from budget where code = 'B-1'; rollback") // finds transaction-inside, count-ignored
}

export async function ownStatements(pool: Pool, code: string) {
  const client = await pool.connect()
  try {
    await client.query('begin') // sound transaction-inside
    const { rowCount } = await client.query('delete from budget where code = $1', [code]) // sound never-committed, session-kept
    if (rowCount !== 1) throw new Error(code)
    await client.query('commit') // sound transaction-inside
  } catch (error) {
    await client.query('rollback') // sound transaction-inside
    throw error
  } finally {
    client.release()
  }
}

export async function wordsOfIt(pool: Pool) {
  const { rows } = await pool.query("select 'begin; commit' as words, code from budget") // sound transaction-inside
  return rows
}

export async function twoWrites(pool: Pool, from: string, to: string) {
  const taken = await pool.query('update budget set hours = hours - 1 where code = $1', [from])
  const given = await pool.query('update budget set hours = hours + 1 where code = $1', [to]) // finds apart
  if (taken.rowCount !== 1 || given.rowCount !== 1) throw new Error(from)
}

export async function twoWritesInOne(pool: Pool, from: string, to: string) {
  const client = await pool.connect()
  try {
    await client.query('begin')
    const taken = await client.query('update budget set hours = hours - 1 where code = $1', [from])
    const given = await client.query('update budget set hours = hours + 1 where code = $1', [to]) // sound apart, never-committed
    if (taken.rowCount !== 1 || given.rowCount !== 1) throw new Error(from)
    await client.query('commit')
  } catch (error) {
    await client.query('rollback')
    throw error
  } finally {
    client.release()
  }
}

export async function oneStatement(pool: Pool, from: string, to: string) {
  const { rowCount } = await pool.query(
    `update budget set hours = hours + case when code = $1 then -1 else 1 end where code in ($1, $2)`, // sound apart, not-one-row
    [from, to],
  )
  if (rowCount !== 2) throw new Error(from)
}

export async function readThenRead(pool: Pool, code: string) {
  const budget = await pool.query('select hours from budget where code = $1', [code]) // sound apart, one-by-one, session-kept
  const blocks = await pool.query('select id from block where state = $1', ['planned']) // sound apart
  return { budget: budget.rows[0], blocks: blocks.rows }
}

export async function handedOut(pool: Pool) {
  const client = await pool.connect()
  return client
}

export async function releasedFinally(pool: Pool, code: string) {
  const client = await pool.connect()
  try {
    const { rows } = await client.query('select hours from budget where code = $1', [code]) // sound session-kept
    return rows[0]
  } finally {
    client.release()
  }
}

export async function saveGuarded(pool: Pool, code: string, title: string, version: number) {
  const { rowCount } = await pool.query(
    'update programme set title = $1, row_version = row_version + 1 where code = $2 and row_version = $3', // sound unguarded-save, count-ignored
    [title, code, version],
  )
  if (rowCount !== 1) throw new Error(`${code} was changed meanwhile`)
}

export async function saveOverwriting(pool: Pool, code: string, email: string) {
  const { rowCount } = await pool.query('update programme set contact_email = $1 where code = $2', [email, code]) // finds unguarded-save
  if (rowCount !== 1) throw new Error(code)
}

export async function raised(pool: Pool, code: string, by: number) {
  const { rowCount } = await pool.query('update programme set hours_left = hours_left + $1 where code = $2', [by, code]) // sound unguarded-save
  if (rowCount !== 1) throw new Error(code)
}

export async function unguardedTable(pool: Pool, code: string, name: string) {
  const { rowCount } = await pool.query('update telescope set name = $1 where code = $2', [name, code]) // sound unguarded-save, count-ignored
  if (rowCount !== 1) throw new Error(code)
}

export async function castToText(pool: Pool, day: string) {
  const { rows } = await pool.query('select id from block where night::text = $1', [day]) // finds type-mismatch
  return rows
}

export async function castValue(pool: Pool, day: string) {
  const { rows } = await pool.query('select id from block where night = $1::date', [day]) // sound type-mismatch
  return rows
}

export async function unnested(pool: Pool, codes: string[], hours: number[]) {
  const { rowCount } = await pool.query(
    'update budget b set hours = n.hours from unnest($1::text[], $2::numeric[]) as n (code, hours) where b.code = n.code', // sound one-by-one, parameter-count
    [codes, hours],
  )
  return rowCount
}

export async function again(pool: Pool, code: string) {
  for (let attempt = 0; attempt < 3; attempt++) {
    const { rowCount } = await pool.query('update budget set hours = hours + 1 where code = $1', [code]) // sound one-by-one
    if (rowCount === 1) return
  }
  throw new Error(code)
}

export async function numbered(pool: Pool, code: string, hours: number) {
  const { rowCount } = await pool.query('update budget set hours = $2, code = $1 where code = $1 and hours <> $2', [code, hours]) // finds key-assigned
  return rowCount
}

export async function bound(pool: Pool, code: string, least: number) {
  const { rows } = await pool.query('select code from budget where code = $1 and hours > $2', [code, least]) // sound value-in-text, parameter-count
  return rows
}

const TABLES = { budget: 'budget', telescope: 'telescope' } as const

export async function constantsOnly(pool: Pool) {
  const { rows } = await pool.query(`select code from ${TABLES.budget} order by code`) // sound value-in-text
  return rows
}

export async function placeholders(pool: Pool, codes: string[]) {
  const { rows } = await pool.query(`select code from budget where code in (${codes.map((_, at) => `$${at + 1}`).join(', ')})`, codes) // sound value-in-text, parameter-count
  return rows
}
