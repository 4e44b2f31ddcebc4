import { pool } from './pool.js'

export async function bound(code) {
  return pool.query("select title from programme where code = $1", [code])
}

export async function pasted(code) {
  return pool.query("select title from programme where code = '" + code + "'") // finds value-in-text
}

export async function templated(code) {
  return pool.query(`select title from programme where code = '${code}'`) // finds value-in-text
}

export async function many(code) {
  return pool.query("select title from programme where code = $1", [code, 1]) // finds parameter-count
}

export async function few(code) {
  return pool.query("select title from programme where code = $1 and id = $2", [code]) // finds parameter-count
}

export async function none(code) {
  return pool.query("select id from block where assigned_to = null") // finds null-comparison
}

export async function astray(code) {
  return pool.query("select titel from programme where code = $1", [code]) // finds unknown-name
}

export async function joined(code) {
  return pool.query("select p.title from programme p join block b on b.programme_id = p.id where b.id = $1", [code])
}

export async function counted(code) {
  return pool.query("select count(*) from block where state = $1", [code])
}

export async function broken(code) {
  return pool.query("select from where") // finds does-not-parse
}

export async function casted(code) {
  return pool.query("select title from programme where id = $1::integer", [code])
}

export async function sorted(code) {
  return pool.query("select title from programme order by code limit $1", [code])
}

export async function any(code) {
  return pool.query("select title from programme where code = any($1)", [code])
}
