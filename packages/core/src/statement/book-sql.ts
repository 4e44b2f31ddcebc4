import type { Mapping, Property } from '../mapping/mapping.js'
import { DIGEST_DIGITS } from '../values/digest.js'
import { readSql } from '../values/sql-form.js'
import { extraNames } from './found-sql.js'
import type { EntryField, SlotList } from './statement.js'

interface Image {
  alias: string
  properties: readonly Property[]
}

interface BookParts {
  mapping: Mapping
  slots: SlotList
  /** The part of the statement that has the record's key. */
  key: string
  /** A condition: whether the row was written. */
  changed: string
  before: Image | null
  after: Image | null
  from: string
  where: string
}

/** When an entry is written. Whoever writes the same record later had to wait for this one's lock, and has a later moment: that orders them. */
export const NOW_SQL = 'pg_catalog.clock_timestamp()'

/**
 * The part of a keyed step that writes its entry: one row, since every further one costs the caller. Images hold the
 * touched columns in text form, in order. What does not differ from one use of the statement to the next (mapping, revision,
 * table, its own text) stands once in `ledgerman.statement`.
 */
export function bookInsertSql({ mapping, slots, key, changed, before, after, from, where }: BookParts): string {
  const field = (name: EntryField, type: string) =>
    `${slots.add({ name: `:${name}`, type, sensitive: false, source: { from: 'entry', field: name } })}::${type}`
  const actor = slots.add({ name: ':actor', type: 'text', sensitive: false, source: { from: 'actor' } })
  const keys = mapping.key.map(({ column, sensitive }) =>
    sensitive ? digestSql(`${key}.${column.sql}`, slots) : `${key}.${column.sql}::text`,
  )
  const keyArray = `array[${keys.join(', ')}]`
  const image = (of: Image | null) => (of === null ? 'null' : `case when ${changed} then ${imageSql(of, slots)} end`)
  return `, booked as (
  insert into ledgerman.entry (id, at, actor, outcome, statement, binds, note, record, key, matched, changed, before, after)
  select ${field('id', 'uuid')}, ${NOW_SQL}, ${actor}::text, 'committed', ${field('statement', 'bigint')}, ${field('binds', 'text[]')}, ${field('note', 'text')},
    ${keys.length > 0 ? `${recordHashSql(keyArray)}, ${keyArray}` : 'null, null'}, 1, case when ${changed} then 1 else 0 end,
    ${image(before)},
    ${image(after)}
  from ${from}
  where ${where}
)`
}

/**
 * The part of a transaction's step that writes an image for each row under `done`, out of `imageColumnsSql`. A row without a key stands there by all
 * its values, and cannot be found by record.
 */
export function imageInsertSql(mapping: Mapping, slots: SlotList): string {
  const step = slots.add({ name: ':step', type: 'integer', sensitive: false, source: { from: 'step', at: 0 } })
  const entry = slots.add({ name: ':id', type: 'uuid', sensitive: false, source: { from: 'entry', field: 'id' } })
  return `, booked as (
  ${IMAGE_INSERT_SQL}
  select ${entry}::uuid, ${step}::integer, ${imageValuesSql(mapping)} from done
)`
}

export const IMAGE_INSERT_SQL = 'insert into ledgerman.image (entry, step, record, key, before, after)'

/** What `IMAGE_INSERT_SQL` inserts behind the number of the step, of the rows under an alias. */
export function imageValuesSql(mapping: Mapping, alias = 'done'): string {
  const names = extraNames(mapping)
  const [key, before, after] = [names.image_key, names.image_before, names.image_after].map(
    (name) => `${alias}.${name}`,
  )
  return `${recordHashSql(key ?? '')}, ${key}, ${before}, ${after}`
}

/** The columns of an image, for what a part of a statement returns: from the rows under these aliases, where null stands for no row. */
export function imageColumnsSql(
  mapping: Mapping,
  slots: SlotList,
  touched: readonly Property[],
  alias: { before: string | null; after: string | null },
): string[] {
  const names = extraNames(mapping)
  const { key, before, after } = imageSidesSql(mapping, slots, touched, alias)
  return [
    `${key ?? 'null::text[]'} as ${names.image_key}`,
    `${before} as ${names.image_before}`,
    `${after} as ${names.image_after}`,
  ]
}

/** A row's key, and its images from the rows under these aliases; null stands for no row. A row without a key has none. */
export function imageSidesSql(
  mapping: Mapping,
  slots: SlotList,
  touched: readonly Property[],
  alias: { before: string | null; after: string | null },
): { key: string | null; before: string; after: string } {
  const keyFrom = alias.before ?? alias.after ?? ''
  const keys = mapping.key.map(({ column, sensitive }) =>
    sensitive ? digestSql(`${keyFrom}.${column.sql}`, slots) : `${keyFrom}.${column.sql}::text`,
  )
  const whole = mapping.key.length === 0 ? mapping.properties : touched
  return {
    key: keys.length === 0 ? null : `array[${keys.join(', ')}]`,
    before: alias.before === null ? 'null::text[]' : imageSql({ alias: alias.before, properties: whole }, slots),
    after: alias.after === null ? 'null::text[]' : imageSql({ alias: alias.after, properties: touched }, slots),
  }
}

/** The number that a record's entries are found by: a hash of its key's text forms, as narrow as an index can be. */
export function recordHashSql(keyArray: string): string {
  return `pg_catalog.hash_array_extended(${keyArray}, 0)`
}

function imageSql({ alias, properties }: Image, slots: SlotList): string {
  return `array[${properties.map((property) => keptSql(property, alias, slots)).join(', ')}]`
}

/** A value of the row under an alias as images hold it: its text, or a digest where it is sensitive. */
export function keptSql({ column, sensitive }: Property, alias: string, slots: SlotList): string {
  const value = readSql(`${alias}.${column.sql}`, column.type)
  return sensitive ? digestSql(value, slots) : `${value}::text`
}

/** A keyed digest (HMAC as in RFC 2104, written out with the server's own sha256; the two padded keys are bound). */
export function digestSql(value: string, slots: SlotList): string {
  const key = slots.add({ name: ':digestKey', type: 'bytea[]', sensitive: true, source: { from: 'digest key' } })
  return digestBySql(value, key)
}

/** The same, where the padded keys (a bytea[] as text) are bound under `pads`. */
export function digestBySql(value: string, pads: string): string {
  const pad = (at: number) => `(${pads}::bytea[])[${at}]`
  return `'hmac:' || pg_catalog.left(pg_catalog.encode(pg_catalog.sha256(${pad(2)} || pg_catalog.sha256(${pad(1)} || pg_catalog.convert_to(${value}::text, 'UTF8'))), 'hex'), ${DIGEST_DIGITS})`
}
