// Conditions that are there on some ways through the program only.
import { Pool } from 'pg'

declare const pool: Pool

export async function bySeeing(seeing?: string) {
  let text = 'update exposure set taken_at = now()'
  if (seeing !== undefined) text += ' where quality > $1' // finds every-row
  return (await pool.query(text, [seeing])).rowCount
}

export async function byChoice(filter: string | null) {
  return (await pool.query(`delete from exposure ${filter ? 'where quality > $1' : ''}`, [filter])).rowCount // finds every-row
}

export async function byList(filters: { filter?: string; seeing?: string }) {
  const conditions = ['true']
  const values: string[] = []
  if (filters.filter) {
    values.push(filters.filter)
    conditions.push('quality > $' + values.length) // finds every-row
  }
  return (await pool.query('delete from exposure where ' + conditions.join(' and '), values)).rowCount
}

export async function inLoop(filters: [string, string][]) {
  let text = 'update exposure set taken_at = now() where 1 = 1'
  for (const [column] of filters) text += ` and "${column}" = $1` // finds every-row, value-in-text
  return (await pool.query(text, [filters[0]?.[1]])).rowCount
}

export async function orElseEnds(filter?: string) {
  let text = 'delete from exposure'
  if (filter !== undefined) text += ' where quality > $1' // sound every-row
  else throw new Error('which ones?')
  return (await pool.query(text, [filter])).rowCount
}

export async function joined(filters: { filter?: string }) {
  const conditions: string[] = []
  if (filters.filter) conditions.push('quality > $1')
  // Without any it is no statement.
  return (await pool.query('delete from exposure where ' + conditions.join(' and '), [filters.filter])).rowCount // sound every-row
}

export async function narrowed(blockId: number, filter?: string) {
  let text = 'delete from exposure where block_id = $1 and quality > 3'
  if (filter !== undefined) text += ' and quality > $2' // sound every-row
  return (await pool.query(text, [blockId, filter])).rowCount
}

export async function togetherInOneArm(filter?: string) {
  if (filter !== undefined) {
    let text = 'delete from exposure'
    text += ' where quality > $1' // sound every-row
    return (await pool.query(text, [filter])).rowCount
  }
  return 0
}

export async function eitherWay(isLate: boolean) {
  const condition = isLate ? 'where quality > 9' : 'where quality < 2'
  return (await pool.query(`delete from exposure ${condition}`)).rowCount // sound every-row
}

export async function read(filter?: string) {
  let text = 'select id from exposure'
  if (filter !== undefined) text += ' where quality > $1' // sound every-row
  return pool.query(text, [filter])
}

export async function guardedBefore(filters: { late?: boolean; early?: boolean }, rows: string[]) {
  if (!filters.late && !filters.early) throw new Error('which ones?')
  const conditions = ['true']
  if (filters.late) conditions.push('quality > 9') // sound every-row
  if (filters.early) conditions.push('quality < 2')
  if (rows.length === 0) return 0
  let text = `delete from exposure where ${conditions.join(' and ')}`
  for (const row of rows) text += ` and id <> ${Number(row)}` // sound every-row
  return (await pool.query(text)).rowCount
}

export async function guardedElsewhere(late: boolean, early: boolean) {
  if (early) return 0
  return (await pool.query(`delete from exposure ${late ? 'where quality > 9' : ''}`)).rowCount // finds every-row
}
