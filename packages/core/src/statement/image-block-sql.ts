import type { Mapping, Property } from '../mapping/mapping.js'
import { readSql } from '../values/sql-form.js'
import { digestSql, recordHashSql } from './book-sql.js'
import type { SlotList } from './statement.js'

/** More first bits of a hash than this tell no block from another: at 2^24 blocks a book has other needs. */
export const MOST_BITS = 24

/** How many rows a block has, about. */
const ROWS_A_BLOCK = 1_000

/** How large a block is at most, about, in bytes. */
const BYTES_A_BLOCK = 512 * 1024

/** So few rows stand alone, each found by its own entry in the index. */
const FEW_ROWS = 64

/** More rows are parted into as many blocks at least: one block of each small change would be looked into for every record. */
const FEWEST_BITS = 6

/** How many first bits of the keys' hashes part so many rows, of so many bytes each, into blocks. */
export function blockBits(rows: number, bytesARow: number): number {
  if (rows <= FEW_ROWS) return MOST_BITS
  const most = Math.max(1, Math.min(ROWS_A_BLOCK, Math.floor(BYTES_A_BLOCK / Math.max(1, bytesARow))))
  return Math.min(MOST_BITS, Math.max(FEWEST_BITS, Math.ceil(Math.log2(rows / most))))
}

interface BlockParts {
  mapping: Mapping
  slots: SlotList
  step: number
  /** The columns whose images are kept, in order. */
  kept: readonly Property[]
  /** The SQL of a property of the row before, and of the row after; null where there is none. */
  before: ((property: Property) => string) | null
  after: ((property: Property) => string) | null
  keyOf: (property: Property) => string
  /** Where the rows come from, with their condition. */
  from: string
  /** What tells rows without a key apart. */
  place: string
}

/**
 * Inserts the images of many rows: about a thousand rows are one row of the book, with an array for each column. Rows whose keys' hashes
 * begin with the same bits stand together, so that a record's images are found by one look into the index for each number of bits,
 * and no row needs an entry of its own there.
 */
export function imageBlockSql(parts: BlockParts): string {
  const { mapping, slots, step, kept, before, after, keyOf, from, place } = parts
  const entry = slots.add({ name: ':id', type: 'uuid', sensitive: false, source: { from: 'entry', field: 'id' } })
  const bits = `${slots.add({ name: ':bits', type: 'integer', sensitive: false, source: { from: 'bits' } })}::integer`
  const columns: string[] = []
  const arrayOf = (sql: readonly string[]) => {
    const names = sql.map((each) => {
      const name = `c${columns.length + 1}`
      columns.push(`${each} as ${name}`)
      return `pg_catalog.array_agg(image.${name})`
    })
    return names.length === 0 ? 'null::text[]' : `array[${names.join(', ')}]`
  }
  const text = (sql: string, property: Property) => imageTextSql(sql, property, slots)
  const keys = mapping.key.map((property) =>
    property.sensitive ? digestSql(keyOf(property), slots) : `${keyOf(property)}::text`,
  )
  const hash =
    keys.length === 0 ? `pg_catalog.hashtextextended(${place}, 0)` : recordHashSql(`array[${keys.join(', ')}]`)
  const [key, old, now] = [
    arrayOf(keys),
    arrayOf(before ? kept.map((property) => text(before(property), property)) : []),
    arrayOf(after ? kept.map((property) => text(after(property), property)) : []),
  ]
  return `insert into ledgerman.image_block (entry, step, bits, prefix, rows, key, before, after)
  select ${entry}::uuid, ${step}, ${bits}, image.prefix, pg_catalog.count(*), ${key}, ${old}, ${now}
  from (
    select ${[...columns, `${prefixSql(hash, bits)} as prefix`].join(', ')}
    ${from}
  ) as image
  group by image.prefix`
}

/** A value as its image has it: in text form, or as a digest where it is sensitive. */
export function imageTextSql(sql: string, { column, sensitive }: Property, slots: SlotList): string {
  const value = readSql(sql, column.type)
  return sensitive ? digestSql(value, slots) : `${value}::text`
}

/** The first bits of a hash, as a number. PostgreSQL shifts by 64 as by none. */
export function prefixSql(hash: string, bits: string): string {
  return `case when ${bits} = 0 then 0 else ${hash} >> (64 - ${bits}) end`
}

/**
 * The entries and steps whose blocks hold an image of the record with this key (an SQL array of texts). A block's array is read once, from its
 * beginning: each `b.key[k][i]` reads, and decompresses, all of it.
 */
export function blocksOfRecordSql(key: string, columns: string): string {
  return `select ${columns} from pg_catalog.generate_series(0, ${MOST_BITS}) as n(bits)
  join ledgerman.image_block b on b.bits = n.bits and b.prefix = ${prefixSql(recordHashSql(key), 'n.bits')}
    and b.key is not null
  join lateral (
    select u.at::integer from pg_catalog.unnest(b.key) with ordinality as u(value, at)
    where u.at <= b.rows and u.value = (${key})[1]
  ) as i(at) on array(select b.key[k][i.at] from pg_catalog.generate_subscripts(b.key, 1) k order by k) operator(pg_catalog.=) ${key}`
}

/** One row's side of a block, at the place that `blocksOfRecordSql` found; null where the block has no such side. */
export function placeOfBlockSql(side: 'key' | 'before' | 'after'): string {
  return `case when b.${side} is not null then array(select b.${side}[c][i.at] from pg_catalog.generate_subscripts(b.${side}, 1) c order by c) end as ${side}`
}

/**
 * All rows of the block under `b`, as a subquery of the columns key, before and after. The arrays are read once, from their beginning, and
 * turned: the first place of every line, then the second. A side that the block does not have is null. How many lines a side has is asked
 * once too, behind `offset 0`, which keeps PostgreSQL from asking it, and decompressing the array, for each row.
 */
export const ROWS_OF_BLOCK_SQL = `(
    select turned.line[1 : n.k] as key, turned.line[coalesce(n.k, 0) + 1 : coalesce(n.k, 0) + n.b] as before,
      turned.line[coalesce(n.k, 0) + coalesce(n.b, 0) + 1 : coalesce(n.k, 0) + coalesce(n.b, 0) + n.a] as after
    from (
      select pg_catalog.array_length(b.key, 1) as k, pg_catalog.array_length(b.before, 1) as b, pg_catalog.array_length(b.after, 1) as a offset 0
    ) as n cross join lateral (
      select pg_catalog.array_agg(u.value order by u.no) as line
      from pg_catalog.unnest(b.key || b.before || b.after) with ordinality as u(value, no)
      group by (u.no - 1) % b.rows order by (u.no - 1) % b.rows
    ) as turned)`
