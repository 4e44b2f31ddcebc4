const { Pool } = require('pg')

const pool = new Pool()

async function load(code) {
  const { rows } = await pool.query('select title from programme where code = $1', [code])
  return rows[0]
}

async function loadBadly(code) {
  const { rows } = await pool.query("select title from programme where code = '" + code + "'") // finds value-in-text
  return rows[0]
}

async function loadBuilt(state, night) {
  let text = 'select id from block where state = $1'
  const values = [state]
  if (night) {
    text += ' and night = $2'
    values.push(night)
  }
  const { rows } = await pool.query(text, values)
  return rows
}

async function loadBuiltBadly(state) {
  let text = "select id from block where state = '"
  text += state
  text += "'"
  const { rows } = await pool.query(text) // finds value-in-text at -2
  return rows
}

async function removeAll() {
  const result = await pool.query('delete from exposure') // finds every-row
  return result.rowCount
}

async function removeOne(id) {
  pool.query('delete from observer where id = $1', [id]).then(() => console.log('removed')) // finds count-ignored
}

async function removeCounted(id) {
  const result = await pool.query('delete from observer where id = $1', [id])
  return result.rowCount
}

async function question(db, code) {
  return db.get('select title from programme where code = ?', [code])
}

async function questionShort(db, code) {
  return db.execute('select title from programme where code = ? and semester = ?', [code]) // finds parameter-count
}

async function insertEach(list) {
  for (const item of list) {
    await pool.query('insert into telescope (code, name) values ($1, $2)', [item.code, item.name]) // finds one-by-one
  }
}

async function nothing() {
  const { rows } = await pool.query('select code from programme where contact_email != null') // finds null-comparison
  return rows
}

module.exports = {
  load,
  loadBadly,
  loadBuilt,
  loadBuiltBadly,
  removeAll,
  removeOne,
  removeCounted,
  question,
  questionShort,
  insertEach,
  nothing,
}
