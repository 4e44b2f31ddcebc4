import fc from 'fast-check'
import { blocksOfRecordSql, ROWS_OF_BLOCK_SQL } from '../../src/statement/image-block-sql.js'
import { makeDatabase, type TestDatabase } from '../../../../testing/databases.js'

// A block holds the images of many rows, line by line; whoever reads it gets the rows that were put in, whole.
let database: TestDatabase

beforeAll(async () => {
  database = await makeDatabase()
  await database.sql(
    'create table block (bits smallint not null, prefix bigint not null, rows integer not null, key text[], before text[], after text[])',
  )
})
afterAll(() => database.drop())

type Texts = (string | null)[]
interface Image {
  key: string[] | null
  before: Texts | null
  after: Texts | null
}

/** Rows of one block: all have the same sides, and the same number of columns in each. */
const images = fc
  .record({
    keys: fc.integer({ min: 0, max: 2 }),
    before: fc.integer({ min: 0, max: 3 }),
    after: fc.integer({ min: 0, max: 3 }),
    rows: fc.integer({ min: 1, max: 12 }),
  })
  .filter(({ keys, before, after }) => keys + before + after > 0)
  .chain(({ keys, before, after, rows }) => {
    const text = fc.constantFrom('', 'NULL', '{}', '"', '\\', ',', 'é', 'a b', '1')
    const side = <T>(of: fc.Arbitrary<T>, columns: number) =>
      columns === 0 ? fc.constant(null) : fc.array(of, { minLength: columns, maxLength: columns })
    const maybe = fc.option(text, { nil: null })
    return fc.array(fc.record({ key: side(text, keys), before: side(maybe, before), after: side(maybe, after) }), {
      minLength: rows,
      maxLength: rows,
    })
  }) as fc.Arbitrary<Image[]>

/** One side as the book keeps it: an array of lines, a line for each column, a place for each row. */
function turned(rows: Image[], side: keyof Image): Texts[] | null {
  const [first] = rows
  const columns = first?.[side]
  return columns ? columns.map((_, at) => rows.map((row) => row[side]?.[at] ?? null)) : null
}

async function keep(rows: Image[]): Promise<void> {
  await database.sql('truncate block')
  await database.sql('insert into block values (0, 0, $1, $2, $3, $4)', [
    rows.length,
    turned(rows, 'key'),
    turned(rows, 'before'),
    turned(rows, 'after'),
  ])
}

describe('a block of images', () => {
  it('gives its rows in their order, with the sides that it has', async () => {
    await fc.assert(
      fc.asyncProperty(images, async (rows) => {
        await keep(rows)
        const read = await database.sql(
          `select r.key, r.before, r.after from block b cross join lateral ${ROWS_OF_BLOCK_SQL} as r`,
        )
        expect(read).toEqual(rows)
      }),
      { numRuns: 60 },
    )
  })

  it('is found by each of its keys, at each place of that key, and by no other', async () => {
    const ofTable = (sql: string) => sql.replaceAll('ledgerman.image_block', 'block')
    await fc.assert(
      fc.asyncProperty(
        images,
        fc.array(fc.constantFrom('', '1', 'é', 'other'), { maxLength: 2 }),
        async (rows, other) => {
          if (rows[0]?.key === null) return
          await keep(rows)
          for (const key of [
            ...rows.flatMap((row) => (row.key ? [row.key] : [])),
            ...(other.length > 0 ? [other] : []),
          ]) {
            const literal = `array[${key.map((text) => `'${text}'`).join(', ')}]::text[]`
            const found = await database.sql(ofTable(blocksOfRecordSql(literal, 'i.at')))
            const places = rows.flatMap((row, at) => (JSON.stringify(row.key) === JSON.stringify(key) ? [at + 1] : []))
            expect(found.map(({ at }) => at)).toEqual(places)
          }
        },
      ),
      { numRuns: 20 },
    )
  })
})
