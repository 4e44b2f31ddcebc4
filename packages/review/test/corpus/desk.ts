import type { Pool, PoolClient } from 'pg'

const LOAD = 'select code, title from programme where code = $1'

export async function load(pool: Pool, code: string) {
  const { rows } = await pool.query(LOAD, [code])
  return rows[0]
}

export async function loadByTemplate(pool: Pool, code: string) {
  const { rows } = await pool.query(`select title from programme where code = '${code}'`) // finds value-in-text
  return rows[0]
}

export async function loadByPlus(pool: Pool, code: string) {
  const { rows } = await pool.query("select title from programme where code = '" + code + "'") // finds value-in-text
  return rows[0]
}

export async function sortBy(pool: Pool, column: string) {
  const { rows } = await pool.query(`select code from programme order by ${column}`) // finds value-in-text
  return rows
}

export async function loadTooFew(pool: Pool, code: string) {
  const { rows } = await pool.query('select title from programme where code = $1 and semester = $2', [code]) // finds parameter-count
  return rows[0]
}

export async function loadTooMany(pool: Pool, code: string, semester: string) {
  const { rows } = await pool.query('select title from programme where code = $1', [code, semester]) // finds parameter-count
  return rows[0]
}

export async function loadGap(pool: Pool, code: string, semester: string) {
  const { rows } = await pool.query('select title from programme where code = $1 and semester = $3', [
    code,
    1,
    semester,
  ]) // finds parameter-count at -4
  return rows[0]
}

export async function loadNoValues(pool: Pool) {
  const { rows } = await pool.query('select title from programme where code = $1') // finds parameter-count
  return rows[0]
}

export async function loadTwice(pool: Pool, code: string) {
  const { rows } = await pool.query('select title from programme where code = $1 or title = $1', [code])
  return rows[0]
}

export async function loadObject(pool: Pool, code: string) {
  const { rows } = await pool.query({ text: 'select title from programme where code = $1', values: [code] })
  return rows[0]
}

export async function loadObjectBadly(pool: Pool, code: string) {
  const { rows } = await pool.query({ text: `select title from programme where code = '${code}'`, values: [] }) // finds value-in-text
  return rows[0]
}

export async function withoutEmail(pool: Pool) {
  const { rows } = await pool.query('select code from programme where contact_email = null') // finds null-comparison
  return rows
}

export async function notInList(pool: Pool) {
  const { rows } = await pool.query('select code from programme where priority not in (1, null)') // finds null-comparison
  return rows
}

export async function notInNullable(pool: Pool) {
  const { rows } = await pool.query('select id from observer where id not in (select assigned_to from block)') // finds null-comparison
  return rows
}

export async function notInKey(pool: Pool) {
  const { rows } = await pool.query('select id from observer where id not in (select programme_id from block)')
  return rows
}

export async function raiseAll(pool: Pool) {
  const { rowCount } = await pool.query('update programme set priority = priority + 1') // finds every-row
  return rowCount
}

export async function removeAll(pool: Pool) {
  const { rowCount } = await pool.query('delete from exposure where true') // finds every-row
  return rowCount
}

export async function removeOld(pool: Pool, before: string) {
  const { rowCount } = await pool.query('delete from exposure where taken_at < $1', [before])
  return rowCount
}

export async function misspelled(pool: Pool, code: string) {
  const { rows } = await pool.query('select titel from programme where code = $1', [code]) // finds unknown-name
  return rows
}

export async function unknownTable(pool: Pool, code: string) {
  const { rows } = await pool.query('select title from programms where code = $1', [code]) // finds unknown-name
  return rows
}

export async function joined(pool: Pool, code: string) {
  const { rows } = await pool.query(
    'select b.id, p.title from block b join programme p on p.id = b.programme_id where p.code = $1',
    [code],
  )
  return rows
}

export async function joinedBadly(pool: Pool, code: string) {
  const { rows } = await pool.query(
    'select b.id, p.tittle from block b join programme p on p.id = b.programme_id where p.code = $1',
    [code],
  ) // finds unknown-name at -2
  return rows
}

export async function withQuery(pool: Pool) {
  const { rows } = await pool.query('with late as (select id as n from block) select n from late where n > 3')
  return rows
}

export async function broken(pool: Pool) {
  const { rows } = await pool.query('select code from programme where where code is null') // finds does-not-parse
  return rows
}

export async function rename(pool: Pool, id: number, name: string) {
  await pool.query('update observer set name = $1 where id = $2', [name, id]) // finds count-ignored
  return 'renamed'
}

export async function renameCounted(pool: Pool, id: number, name: string) {
  const { rowCount } = await pool.query('update observer set name = $1 where id = $2', [name, id])
  if (rowCount !== 1) throw new Error('no such observer')
}

export async function renameReturned(pool: Pool, id: number, name: string) {
  return pool.query('update observer set name = $1 where id = $2', [name, id])
}

export async function removeUnseen(pool: Pool, id: number) {
  await pool.query('delete from observer where id = $1', [id]) // finds count-ignored
}

export async function saveTitle(pool: Pool, code: string, title: string) {
  const { rowCount } = await pool.query('update programme set title = $1 where code = $2', [title, code]) // finds unguarded-save
  return rowCount
}

export async function saveGuarded(pool: Pool, code: string, title: string, version: number) {
  const { rowCount } = await pool.query(
    `update programme set title = $1, row_version = row_version + 1
     where code = $2 and row_version = $3`,
    [title, code, version],
  )
  return rowCount
}

export async function countUp(pool: Pool) {
  const { rowCount } = await pool.query("update programme set priority = priority + 1 where semester = '2026A'")
  return rowCount
}

export async function byName(pool: Pool, name: string) {
  const { rowCount } = await pool.query("update observer set role = 'lead' where name = $1", [name]) // finds not-one-row
  return rowCount
}

export async function removeByEmail(pool: Pool, email: string) {
  const { rowCount } = await pool.query('delete from observer where email = $1', [email]) // finds not-one-row
  return rowCount
}

export async function byPlace(pool: Pool, telescope: string, night: string, slot: number) {
  const { rowCount } = await pool.query('delete from block where telescope_code = $1 and night = $2 and slot = $3', [
    telescope,
    night,
    slot,
  ])
  return rowCount
}

export async function closeNight(pool: Pool, state: string) {
  const { rowCount } = await pool.query("update block set state = 'failed' where state = $1", [state])
  return rowCount
}

export async function renumber(pool: Pool, old: number, now: number) {
  const { rowCount } = await pool.query('update observer set id = $1 where id = $2', [now, old]) // finds key-assigned
  return rowCount
}

export async function setGenerated(pool: Pool, id: number) {
  const { rowCount } = await pool.query("update observer set initials = 'XY' where id = $1", [id]) // finds key-assigned
  return rowCount
}

export async function castColumn(pool: Pool, id: string) {
  const { rows } = await pool.query('select name from observer where id::text = $1', [id]) // finds type-mismatch
  return rows
}

export async function transferApart(pool: Pool, giver: string, taker: string, hours: string) {
  const one = await pool.query('update budget set hours = hours - $1 where code = $2', [hours, giver])
  const other = await pool.query('update budget set hours = hours + $1 where code = $2', [hours, taker]) // finds apart
  return one.rowCount === 1 && other.rowCount === 1
}

export async function transfer(pool: Pool, giver: string, taker: string, hours: string) {
  const client = await pool.connect()
  try {
    await client.query('BEGIN')
    const one = await client.query('update budget set hours = hours - $1 where code = $2', [hours, giver])
    const other = await client.query('update budget set hours = hours + $1 where code = $2', [hours, taker])
    if (one.rowCount !== 1 || other.rowCount !== 1) throw new Error('no such budget')
    await client.query('COMMIT')
  } catch (error) {
    await client.query('ROLLBACK')
    throw error
  } finally {
    client.release()
  }
}

export async function transferInside(client: PoolClient, giver: string, taker: string, hours: string) {
  const one = await client.query('update budget set hours = hours - $1 where code = $2', [hours, giver])
  const other = await client.query('update budget set hours = hours + $1 where code = $2', [hours, taker])
  return one.rowCount === 1 && other.rowCount === 1
}

export async function neverCommits(pool: Pool, code: string) {
  const client = await pool.connect()
  try {
    await client.query('BEGIN')
    const { rowCount } = await client.query('delete from telescope where code = $1', [code]) // finds never-committed
    return rowCount
  } finally {
    client.release()
  }
}

export async function neverRollsBack(pool: Pool, code: string) {
  const client = await pool.connect()
  await client.query('BEGIN')
  const { rowCount } = await client.query('delete from telescope where code = $1', [code]) // finds never-committed, session-kept
  await client.query('COMMIT')
  client.release()
  return rowCount
}

export async function keeps(pool: Pool, code: string) {
  const client = await pool.connect()
  const { rows } = await client.query('select name from telescope where code = $1', [code]) // finds session-kept
  return rows
}

export async function hold(client: PoolClient, code: string) {
  const { rows } = await client.query('select code from telescope where code = $1 for update', [code]) // finds unbounded-wait
  return rows
}

export async function holdTable(client: PoolClient) {
  await client.query('lock table telescope in exclusive mode') // finds unbounded-wait
}

export async function holdSkipping(client: PoolClient) {
  const { rows } = await client.query("select id from block where state = 'planned' for update skip locked")
  return rows
}

export async function each(pool: Pool, codes: string[]) {
  for (const code of codes) {
    const { rowCount } = await pool.query('update telescope set name = upper(name) where code = $1', [code]) // finds one-by-one
    if (rowCount !== 1) throw new Error(code)
  }
}

export async function eachMapped(pool: Pool, codes: string[]) {
  return Promise.all(codes.map((code) => pool.query('select name from telescope where code = $1', [code]))) // finds one-by-one
}

export async function atOnce(pool: Pool, codes: string[]) {
  const { rowCount } = await pool.query('update telescope set name = upper(name) where code = any($1)', [codes])
  return rowCount
}

export async function bothInOne(pool: Pool) {
  await pool.query("BEGIN; delete from telescope where code = 'HF9'; COMMIT") // finds transaction-inside, count-ignored
}

export async function placeholders(pool: Pool, codes: string[]) {
  const marks = codes.map((_, at) => `$${at + 1}`).join(', ')
  const { rows } = await pool.query(
    `select name from telescope where code in (${codes.map((_, at) => `$${at + 1}`).join(', ')})`,
    codes,
  )
  return [rows, marks]
}

export async function accepted(pool: Pool) {
  // ledgerman: accept every-row because the table is a cache
  const { rowCount } = await pool.query('delete from exposure')
  return rowCount
}

export function notSql(log: { info(text: string): void }) {
  log.info('update the set of flats')
}
