// What gives a promise is waited for, or handed on to whoever waits.
import { Pool } from 'pg'

declare const pool: Pool

export async function dropped(id: number) {
  pool.query('delete from exposure where id = $1', [id]) // finds not-awaited
}

export async function droppedCommit(id: number) {
  const client = await pool.connect()
  try {
    await client.query('BEGIN')
    const { rowCount } = await client.query('delete from exposure where id = $1', [id])
    if (rowCount !== 1) throw new Error('no such exposure')
    client.query('COMMIT') // finds not-awaited
  } catch (error) {
    await client.query('ROLLBACK')
    throw error
  } finally {
    client.release()
  }
}

export const inArrow = async (id: number) => {
  pool.query('update exposure set taken_at = now() where id = $1', [id]) // finds not-awaited
  return 'done'
}

export class Log {
  async note(seconds: number) {
    pool.query('insert into exposure (quality) values ($1)', [seconds]) // finds not-awaited
  }

  async warm(id: number) {
    pool.query('select id from exposure where id = $1', [id]) // sound not-awaited
  }
}

export function handedOn(id: number) {
  return pool.query('delete from exposure where id = $1', [id]) // sound not-awaited
}

export async function awaited(id: number) {
  const { rowCount } = await pool.query('delete from exposure where id = $1', [id]) // sound not-awaited
  return rowCount
}

export async function together(from: number) {
  const one = pool.query('delete from exposure where quality > $1', [from]) // sound not-awaited
  const [{ rowCount }] = await Promise.all([one])
  return rowCount
}

export async function caught(from: number, log: (error: unknown) => void) {
  pool.query('delete from exposure where quality > $1', [from]).catch(log) // sound not-awaited
  await Promise.resolve()
}

export async function onPurpose(from: number) {
  void pool.query('delete from exposure where quality > $1', [from]) // sound not-awaited
  await Promise.resolve()
}

export async function calledBack(from: number, done: (error: Error | null) => void) {
  pool.query('delete from exposure where quality > $1', [from], (error) => done(error)) // sound not-awaited
  await Promise.resolve()
}
