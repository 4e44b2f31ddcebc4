'use strict'
const pg = require('pg')
const db = new pg.Pool()

module.exports = {
  async rename(code, name) {
    const result = await db.query('UPDATE telescope SET name = $1 WHERE code = $2', [name, code])
    return result.rowCount > 0
  },

  async renameBlind(code, name) {
    await db.query('UPDATE telescope SET name = $1 WHERE code = $2', [name, code]) // finds count-ignored
    return { code, name }
  },

  search(term) {
    return db.query("SELECT code FROM telescope WHERE name LIKE '%" + term + "%'") // finds value-in-text
  },

  list({ sort = 'code', dir = 'asc' } = {}) {
    const column = ['code', 'name'].includes(sort) ? sort : 'code'
    const direction = dir === 'desc' ? 'desc' : 'asc'
    return db.query(`SELECT code FROM telescope ORDER BY ${column} ${direction}`)
  },

  promised(code) {
    return db
      .query('DELETE FROM telescope WHERE code = $1', [code])
      .then((result) => {
        if (result.rowCount === 0) throw new Error('gone')
      })
  },

  nested(code, callback) {
    db.connect((err, client, release) => {
      if (err) return callback(err)
      client.query('SELECT name FROM telescope WHERE code = $1', [code], (err, res) => {
        release()
        callback(err, res && res.rows[0])
      })
    })
  },

  async swap(a, b) {
    await db.query('UPDATE block SET slot = -1 WHERE id = $1 RETURNING id', [a]) // finds count-ignored
    const { rowCount } = await db.query('UPDATE block SET slot = 1 WHERE id = $1', [b]) // finds apart
    if (!rowCount) throw new Error('gone')
  },

  async each(codes) {
    for (let i = 0; i < codes.length; i++) {
      const { rows } = await db.query('SELECT name FROM telescope WHERE code = $1', [codes[i]]) // finds one-by-one
      console.log(rows)
    }
  },

  async forEach(codes) {
    codes.forEach(async (code) => {
      await db.query('INSERT INTO telescope (code, name) VALUES ($1, $1)', [code]) // finds one-by-one
    })
  },

  async jsonb(code, data) {
    const { rowCount } = await db.query("UPDATE telescope SET name = $1::jsonb ->> 'name' WHERE code = $2", [JSON.stringify(data), code])
    return rowCount
  },

  async upsert(code, name) {
    await db.query(
      'INSERT INTO telescope (code, name) VALUES ($1, $2) ON CONFLICT (code) DO UPDATE SET name = excluded.name',
      [code, name],
    )
  },
}
