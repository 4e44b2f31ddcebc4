import pg from 'pg'
import { deriveMapping, emitCode, nameCode, resolveMapping, Target, type Mapping } from '@ledgerman/core'
import { mappingDefinition, type RecordValues } from '@ledgerman/contract'
import { compileCode } from '../../../../testing/compiled-code.js'
import { makeDatabase, type TestDatabase } from '../../../../testing/databases.js'
import { WIDE_SCHEMAS } from '../../../../testing/wide-schemas.js'

// Whole schemas as applications have them, as code: all of it compiles, and finds, loads, changes and removes a record of each table.
let database: TestDatabase
let target: Target
let pool: pg.Pool

beforeAll(async () => {
  database = await makeDatabase()
  target = new Target({ name: 'wide', url: database.ownerUrl, connections: 4, digestKey: Buffer.from('k') })
  pool = new pg.Pool({ connectionString: database.ownerUrl, max: 2 })
})
afterAll(async () => {
  await pool?.end()
  await target?.close()
  await database?.drop()
})

describe.each(WIDE_SCHEMAS)('a schema of $tables tables: $name', ({ name, ddl, tables }) => {
  it('is written as code that compiles strictly, and works on a record of each table', async () => {
    await database.sql(ddl)
    const all = (await target.tables()).filter(({ schema }) => schema === name)
    expect(all.length).toBe(tables)
    const taken = new Set<string>()
    const mappings = all.map((table): Mapping => {
      const { definition } = deriveMapping(table, () => undefined)
      let mapping = definition.mapping
      while (taken.has(mapping)) mapping += '_'
      taken.add(mapping)
      const { links: _, ...own } = definition
      return resolveMapping(mappingDefinition.parse({ ...own, mapping }), 1, table)
    })
    const files = emitCode(mappings, [])
    expect(emitCode(mappings, [])).toEqual(files)
    const { module, remove } = await compileCode(files)
    try {
      const found = new Map<string, (loaded: unknown) => Promise<unknown>>()
      for (const [fn, value] of Object.entries(module as Record<string, (...all: unknown[]) => Promise<unknown>>))
        if (fn.startsWith('find')) found.set(fn.slice(4), value)
      expect(found.size).toBe(tables)
      const writable = new Map(
        nameCode({ mappings, plans: [], finds: new Map() }).mappings.map(({ type, mapping }) => [
          type,
          mapping.properties.filter(({ lockedBecause }) => lockedBecause === null).map((property) => property.name),
        ]),
      )
      for (const [type, find] of found) {
        const [loaded] = (await find(pool)) as { record: RecordValues; guard: string | null }[]
        if (!loaded) throw new Error(`find${type} finds nothing`)
        expect(await module[`load${type}`](pool, loaded.record)).toEqual(loaded)
        const client = await pool.connect()
        try {
          await client.query('begin')
          const values = Object.fromEntries((writable.get(type) ?? []).map((each) => [each, loaded.record[each]]))
          const replaced = module[`replace${type}`]
          if (replaced) expect(await replaced(client, loaded, values).catch(nameOf)).toMatchObject({ changed: 0 })
          const removed = await module[`remove${type}`](client, loaded).catch(nameOf)
          expect([1, 'ConstraintBroken']).toContain((removed as { changed?: number }).changed ?? removed)
        } finally {
          await client.query('rollback')
          client.release()
        }
      }
    } finally {
      remove()
    }
  })
})

function nameOf(error: Error): string {
  return error.name
}
