const { Pool } = require('pg')
const pool = new Pool()
const queries = { load: 'select name from telescope where code = $1', drop: 'delete from telescope where code = $1' }
// 1
exports.load = async (code) => (await pool.query(queries.load, [code])).rows[0]
// 2 count-ignored
exports.drop = async function (code) { await pool.query(queries.drop, [code]) } // finds count-ignored
// 3 handler: count-ignored, value-in-text
app.delete('/telescopes/:code', async (req, res) => {
  await pool.query(`delete from telescope where code = '${req.params.code}'`) // finds count-ignored, value-in-text
  res.sendStatus(204)
})
// 4 handler sound
app.delete('/t/:code', async (req, res) => {
  const { rowCount } = await pool.query('delete from telescope where code = $1', [req.params.code])
  res.sendStatus(rowCount ? 204 : 404)
})
// 5 mass assignment
app.patch('/t/:code', async (req, res) => {
  const keys = Object.keys(req.body)
  const sets = keys.map((k, i) => `${k} = $${i + 2}`).join(', ') // finds value-in-text
  const r = await pool.query(`update telescope set ${sets} where code = $1`, [req.params.code, ...Object.values(req.body)])
  res.json({ n: r.rowCount })
})
// 6 two writes, helper
async function tx(fn) {
  const c = await pool.connect()
  try { await c.query('begin'); const r = await fn(c); await c.query('commit'); return r } catch (e) { await c.query('rollback'); throw e } finally { c.release() }
}
exports.two = (a, b) => tx(async (c) => {
  const x = await c.query('delete from telescope where code = $1', [a])
  const y = await c.query('delete from telescope where code = $1', [b])
  if (x.rowCount + y.rowCount !== 2) throw new Error('gone')
})
// 7 rows of an update without returning
exports.norows = async (code) => {
  const { rows } = await pool.query('update telescope set name = $1 where code = $2', ['x', code]) // finds count-ignored
  return rows[0]
}
// 8 promise chain ignoring
exports.chain = (code) => pool.query('delete from telescope where code = $1', [code]).then(() => true) // finds count-ignored
// 9 if err only
exports.cb = (code, cb) => pool.query('delete from telescope where code = $1', [code], (err, res) => cb(err, res && res.rowCount))
// 10 release not in finally
exports.rel = async (code) => {
  const client = await pool.connect()
  const r = await client.query('select 1 from telescope where code = $1', [code]) // finds session-kept
  client.release()
  return r.rows
}
// 11 concat number param
exports.off = (n) => pool.query('select code from telescope order by code offset ' + Number(n))
// 12 returned in try/finally: sound
exports.fin = async (code) => {
  const client = await pool.connect()
  try { return (await client.query('select 1 from telescope where code = $1', [code])).rows } finally { client.release() }
}
// 13 begin/return inside with rollback: sound
exports.retr = async (code) => {
  const client = await pool.connect()
  try {
    await client.query('BEGIN')
    const r = await client.query('delete from telescope where code = $1', [code])
    if (r.rowCount === 0) { await client.query('ROLLBACK'); return false }
    await client.query('COMMIT')
    return true
  } catch (e) { await client.query('ROLLBACK'); throw e } finally { client.release() }
}
// 14 switch of statements
exports.sw = async (kind, code) => {
  let q
  switch (kind) { case 'a': q = 'update telescope set name = $2 where code = $1'; break; default: q = 'update telescope set nam = $2 where code = $1' } // finds unknown-name
  const r = await pool.query(q, [code, 'x'])
  if (!r.rowCount) throw new Error()
}
