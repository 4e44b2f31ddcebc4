import { Pool } from 'pg'
const pool = new Pool()
declare const sql: (texts: TemplateStringsArray, ...values: unknown[]) => Promise<unknown>

// 1 early return without rollback: never-committed
export async function earlyReturn(code: string) {
  const client = await pool.connect()
  try {
    await client.query('BEGIN')
    const { rowCount } = await client.query('update telescope set name = $1 where code = $2', ['x', code])
    if (rowCount === 0) return false // finds never-committed
    await client.query('COMMIT')
    return true
  } catch (e) {
    await client.query('ROLLBACK')
    throw e
  } finally {
    client.release()
  }
}
// 2 result never looked at: count-ignored
export async function unused(code: string) {
  // @ts-expect-error nobody looks at it
  const result = await pool.query('delete from telescope where code = $1', [code]) // finds count-ignored
  return { ok: true }
}
// 3 the word changes and with in comments: count-ignored
export async function saveChanges(code: string, changes: { name: string }) {
  // with the new name
  await pool.query('update telescope set name = $1 where code = $2', [changes.name, code]) // finds count-ignored
}
// 4 tagged: nothing but count-ignored
export async function tagged(code: string) {
  await sql`delete from telescope where code = ${code}` // finds count-ignored
}
// 5 second not looked at
export async function second(a: string, b: string) {
  const client = await pool.connect()
  try {
    await client.query('BEGIN')
    const one = await client.query('delete from telescope where code = $1', [a])
    if (one.rowCount !== 1) throw new Error('gone')
    await client.query('delete from telescope where code = $1', [b]) // finds count-ignored
    await client.query('COMMIT')
  } catch (e) {
    await client.query('ROLLBACK'); throw e
  } finally { client.release() }
}
// 6 push and join
export async function built(filter: { code?: string; title?: string }) {
  const where: string[] = []
  const values: unknown[] = []
  if (filter.code) { values.push(filter.code); where.push(`code = $${values.length}`) }
  if (filter.title) { values.push(filter.title); where.push(`title = $${values.length}`) }
  return (await pool.query(`select code from programme where ${where.join(' and ')}`, values)).rows
}
// 7 values pushed into text: value-in-text
export async function pushed(filter: { code?: string }) {
  const where: string[] = ['1 = 1']
  if (filter.code) where.push(`code = '${filter.code}'`) // finds value-in-text
  return (await pool.query('select title from programme where ' + where.join(' and '))).rows
}
// 8 for await of: one-by-one
export async function loop(codes: string[]) {
  for (const code of codes) {
    const { rows } = await pool.query('select id from programme where code = $1', [code]) // finds one-by-one
    console.log(rows[0]?.id)
  }
}
// 9 comment word finally: session-kept
export async function kept(code: string) {
  // finally, with a client of its own
  const client = await pool.connect()
  const { rows } = await client.query('select id from programme where code = $1', [code]) // finds session-kept
  client.release()
  return rows[0]
}
// 10 callback style
export function callback(code: string, done: (e?: Error) => void) {
  pool.query('delete from telescope where code = $1', [code], (error) => { // finds count-ignored
    if (error) return done(error)
    done()
  })
}
// 11 then chain looks
export const chained = (code: string) =>
  pool.query('delete from telescope where code = $1', [code]).then((r) => { if (r.rowCount !== 1) throw new Error('gone') })
// 12 begin on the pool: two sessions
export async function onPool(a: string, b: string) {
  await pool.query('BEGIN')
  await pool.query('update telescope set name = $1 where code = $2', ['x', a]) // finds count-ignored, never-committed, apart
  await pool.query('update telescope set name = $1 where code = $2', ['y', b]) // finds count-ignored
  await pool.query('COMMIT')
}
// 13 like pasted inside
export async function like(text: string) {
  return pool.query(`select code from programme where title ilike '%${text}%'`) // finds value-in-text
}
// 14 limit pasted number
export async function page(n: number) {
  return pool.query(`select code from programme order by code limit ${n}`) // finds value-in-text
}
// 15 in list
export async function list(ids: number[]) {
  return pool.query(`select code from programme where id in (${ids.join(',')})`) // finds value-in-text
}
// 16 not in nullable
export async function nn() {
  return pool.query('select code from programme where id not in (select lead_id from programme where contact_email <> null)') // finds null-comparison
}
// 17 forgotten await
export async function notAwaited(code: string) {
  pool.query('delete from telescope where code = $1', [code]) // finds not-awaited
  return 'removed'
}
// 18 retry loop, sound
export async function retry(code: string) {
  for (let attempt = 0; attempt < 3; attempt++) {
    try {
      const { rowCount } = await pool.query('delete from telescope where code = $1', [code])
      if (rowCount === 0) throw new Error('gone')
      return
    } catch (e) { if (attempt === 2) throw e }
  }
}
// 19 sound: rows of returning
export async function returning(code: string) {
  const { rows } = await pool.query('delete from telescope where code = $1 returning code', [code])
  return rows.length === 1
}
// 20 returning, not looked at: count-ignored
export async function returningIgnored(code: string) {
  await pool.query('delete from telescope where code = $1 returning code', [code]) // finds count-ignored
}
// 21 template const
const COLUMNS = ['code', 'title']
const SELECT = `select ${COLUMNS.join(', ')} from programme`
export const bySemester = (s: string) => pool.query(`${SELECT} where semester = $1`, [s])
// 22 wrong key order: where before
export const wrong = (code: string, t: string) => pool.query('update telescope set name = $2 where code = $3', [t, code]) // finds parameter-count
