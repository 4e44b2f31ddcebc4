import type { Pool, PoolClient } from 'pg'

declare function format(text: string, ...values: unknown[]): string

export class TelescopeRepository {
  private static readonly TABLE = 'telescope'
  constructor(private pool: Pool) {}

  async findByCode(code: string) {
    const { rows } = await this.pool.query(`SELECT code, name FROM ${TelescopeRepository.TABLE} WHERE code = $1`, [code])
    return rows[0]
  }

  async rename(code: string, name: string): Promise<void> {
    const query = { text: 'UPDATE telescope SET name = $2 WHERE code = $1', values: [code, name] } // finds count-ignored
    await this.pool.query(query)
  }

  async renameChecked(code: string, name: string): Promise<void> {
    const res = await this.pool.query('UPDATE telescope SET name = $2 WHERE code = $1', [code, name])
    if (!res.rowCount) {
      throw new Error(`no telescope ${code}`)
    }
  }

  async search(term: string) {
    const sql = 'SELECT code FROM telescope WHERE name ILIKE ' + `'%` + term + `%'` // finds value-in-text
    return this.pool.query(sql)
  }

  async removeAll(codes: string[]) {
    const client = await this.pool.connect()
    try {
      await client.query('BEGIN')
      for (const code of codes) {
        const r = await client.query('DELETE FROM telescope WHERE code = $1', [code]) // finds one-by-one
        if (r.rowCount === 0) throw new Error(code)
      }
      await client.query('COMMIT')
    } catch (err) {
      await client.query('ROLLBACK')
      throw err
    } finally {
      client.release()
    }
  }

  async transfer(from: string, to: string, hours: number) {
    const client = await this.pool.connect()
    try {
      await client.query('BEGIN')
      const source = await client.query('SELECT hours FROM budget WHERE code = $1 FOR UPDATE', [from]) // finds unbounded-wait
      if (source.rows.length === 0 || Number(source.rows[0].hours) < hours) {
        await client.query('ROLLBACK')
        return { ok: false }
      }
      const a = await client.query('UPDATE budget SET hours = hours - $1 WHERE code = $2', [hours, from])
      const b = await client.query('UPDATE budget SET hours = hours + $1 WHERE code = $2', [hours, to])
      if (a.rowCount !== 1 || b.rowCount !== 1) throw new Error('gone')
      await client.query('COMMIT')
      return { ok: true }
    } catch (err) {
      await client.query('ROLLBACK')
      throw err
    } finally {
      client.release()
    }
  }

  async forgotCommit(from: string) {
    const client = await this.pool.connect()
    try {
      await client.query('BEGIN')
      const a = await client.query('UPDATE budget SET hours = 0 WHERE code = $1', [from]) // finds never-committed
      if (a.rowCount !== 1) throw new Error('gone')
      return true
    } finally {
      client.release()
    }
  }

  async dynamicColumns(code: string, patch: Record<string, unknown>) {
    const entries = Object.entries(patch)
    const assignments = entries.map(([column], i) => format('%I = $%s', column, i + 2))
    const result = await this.pool.query(
      `UPDATE telescope SET ${assignments.join(', ')} WHERE code = $1`,
      [code, ...entries.map(([, value]) => value)],
    )
    return result.rowCount
  }

  async saveProgramme(id: number, title: string) {
    const { rowCount } = await this.pool.query('UPDATE programme SET title = $2, updated_at = now() WHERE id = $1', [id, title]) // finds unguarded-save
    if (rowCount === 0) throw new Error('gone')
  }

  async byName(name: string) {
    await this.pool.query('DELETE FROM telescope WHERE name = $1', [name]) // finds not-one-row
  }

  async missing(a: string, b: string) {
    return this.pool.query('INSERT INTO telescope (code, name) VALUES ($1, $2), ($3, $4)', [a, b, a]) // finds parameter-count
  }

  async nulls() {
    return (await this.pool.query('SELECT id FROM programme WHERE contact_email = NULL')).rows // finds null-comparison
  }

  async rekey(code: string) {
    const { rowCount } = await this.pool.query('UPDATE telescope SET code = $1 WHERE code = $2', [code.toUpperCase(), code]) // finds key-assigned
    return rowCount === 1
  }

  async untyped(id: string) {
    return this.pool.query('SELECT code FROM programme WHERE id::text = $1', [id]) // finds type-mismatch
  }
}

export async function withClient<T>(pool: Pool, fn: (c: PoolClient) => Promise<T>) {
  const c = await pool.connect()
  try {
    return await fn(c)
  } finally {
    c.release()
  }
}

export const two = (pool: Pool, a: string, b: string) =>
  withClient(pool, async (c) => {
    await c.query('begin')
    try {
      const x = await c.query("update telescope set name = 'a' where code = $1", [a])
      const y = await c.query("update telescope set name = 'b' where code = $1", [b])
      if ((x.rowCount ?? 0) + (y.rowCount ?? 0) < 2) throw new Error('missing')
      await c.query('commit')
    } catch (e) {
      await c.query('rollback')
      throw e
    }
  })

export async function leaky(pool: Pool, code: string) {
  const conn = await pool.connect()
  const res = await conn.query('SELECT name FROM telescope WHERE code = $1', [code]) // finds session-kept
  if (res.rows.length === 0) return null
  conn.release()
  return res.rows[0]
}

export async function whileLoop(pool: Pool, ids: number[]) {
  let i = 0
  while (i < ids.length) {
    await pool.query('INSERT INTO exposure (id, quality) VALUES ($1, 0)', [ids[i]]) // finds one-by-one, key-assigned
    i++
  }
}

export async function reduced(pool: Pool, ids: number[]) {
  await ids.reduce(async (previous, id) => {
    await previous
    await pool.query('INSERT INTO exposure (id, quality) VALUES ($1, 0)', [id]) // finds one-by-one, key-assigned
  }, Promise.resolve())
}

export async function batchAll(pool: Pool, ids: number[]) {
  await pool.query('INSERT INTO exposure (id, quality) SELECT id, 0 FROM unnest($1::bigint[]) AS id', [ids]) // finds key-assigned
}

export async function everything(pool: Pool) {
  await pool.query('UPDATE exposure SET quality = 0') // finds every-row
}

export async function notEverything(pool: Pool, min: number) {
  await pool.query('UPDATE exposure SET quality = 0 WHERE quality < $1', [min])
}
