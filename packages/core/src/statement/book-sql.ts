import type { Mapping, Property } from '../mapping/mapping.js'
import { DIGEST_DIGITS } from '../values/digest.js'
import { readSql } from '../values/sql-form.js'
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
  insert into ledgerman.entry (id, actor, outcome, statement, binds, note, record, key, matched, changed, before, after)
  select ${field('id', 'uuid')}, ${actor}::text, 'committed', ${field('statement', 'bigint')}, ${field('binds', 'text[]')}, ${field('note', 'text')},
    ${keys.length > 0 ? `${recordHashSql(keyArray)}, ${keyArray}` : 'null, null'}, 1, case when ${changed} then 1 else 0 end,
    ${image(before)},
    ${image(after)}
  from ${from}
  where ${where}
)`
}

/**
 * The part of a transaction's step that writes an image for each row it wrote. A row without a key stands there by all its
 * values, and cannot be found by record.
 */
export function imageInsertSql(parts: {
  mapping: Mapping
  slots: SlotList
  touched: readonly Property[]
  isRemove: boolean
  isAdd?: boolean
  written: string
  from: string
}): string {
  const { mapping, slots, touched, isRemove, isAdd = false, written, from } = parts
  const entry = slots.add({ name: ':id', type: 'uuid', sensitive: false, source: { from: 'entry', field: 'id' } })
  const step = slots.add({ name: ':step', type: 'integer', sensitive: false, source: { from: 'step', at: 0 } })
  const keyFrom = isAdd ? 'done' : 'hit'
  const keys = mapping.key.map(({ column, sensitive }) =>
    sensitive ? digestSql(`${keyFrom}.${column.sql}`, slots) : `${keyFrom}.${column.sql}::text`,
  )
  const keyArray = `array[${keys.join(', ')}]`
  const whole = mapping.key.length === 0 ? mapping.properties : touched
  const before = isAdd ? 'null' : imageSql({ alias: 'hit', properties: whole }, slots)
  const after = isRemove ? 'null' : imageSql({ alias: 'done', properties: touched }, slots)
  return `, booked as (
  insert into ledgerman.image (entry, step, record, key, before, after)
  select ${entry}::uuid, ${step}::integer, ${keys.length > 0 ? `${recordHashSql(keyArray)}, ${keyArray}` : 'null, null'},
    ${before},
    ${after}
  ${from}
  where done.${written}
)`
}

/** The number that a record's entries are found by: a hash of its key's text forms, as narrow as an index can be. */
export function recordHashSql(keyArray: string): string {
  return `hash_array_extended(${keyArray}, 0)`
}

function imageSql({ alias, properties }: Image, slots: SlotList): string {
  const values = properties.map((property) => {
    const value = readSql(`${alias}.${property.column.sql}`, property.column.type)
    return property.sensitive ? digestSql(value, slots) : `${value}::text`
  })
  return `array[${values.join(', ')}]`
}

/** A keyed digest (HMAC as in RFC 2104, written out with the server's own sha256; the two padded keys are bound). */
function digestSql(value: string, slots: SlotList): string {
  const key = slots.add({ name: ':digestKey', type: 'bytea[]', sensitive: true, source: { from: 'digest key' } })
  const pad = (at: number) => `(${key}::bytea[])[${at}]`
  return `'hmac:' || left(encode(sha256(${pad(2)} || sha256(${pad(1)} || convert_to(${value}::text, 'UTF8'))), 'hex'), ${DIGEST_DIGITS})`
}
