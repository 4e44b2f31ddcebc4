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
 * touched columns by name, in text form. What does not differ from one use of the statement to the next (mapping, revision,
 * table, its own text) stands once in `ledgerman.statement`.
 */
export function bookInsertSql({ mapping, slots, key, changed, before, after, from, where }: BookParts): string {
  const field = (name: EntryField, type: string) =>
    `${slots.add({ name: `:${name}`, type, sensitive: false, source: { from: 'entry', field: name } })}::${type}`
  const actor = slots.add({ name: ':actor', type: 'text', sensitive: false, source: { from: 'actor' } })
  const keys = mapping.key.map(({ column, sensitive }) =>
    sensitive ? digestSql(`${key}.${column.sql}`, slots) : `${key}.${column.sql}::text`,
  )
  const image = (of: Image | null) => (of === null ? 'null' : `case when ${changed} then ${imageSql(of, slots)} end`)
  return `, booked as (
  insert into ledgerman.entry (id, actor, outcome, statement, binds, note, key, matched, changed, before, after)
  select ${field('id', 'uuid')}, ${actor}::text, 'committed', ${field('statement', 'bigint')}, ${field('binds', 'text[]')}, ${field('note', 'text')},
    ${keys.length > 0 ? `array[${keys.join(', ')}]` : 'null'}, 1, case when ${changed} then 1 else 0 end,
    ${image(before)},
    ${image(after)}
  from ${from}
  where ${where}
)`
}

function imageSql({ alias, properties }: Image, slots: SlotList): string {
  const pairs = properties.map((property) => {
    const value = readSql(`${alias}.${property.column.sql}`, property.column.type)
    return `${literal(property.column.name)}, ${property.sensitive ? digestSql(value, slots) : `${value}::text`}`
  })
  const chunks: string[] = []
  for (let at = 0; at < pairs.length; at += PAIRS_A_CALL) {
    chunks.push(`jsonb_build_object(${pairs.slice(at, at + PAIRS_A_CALL).join(', ')})`)
  }
  return chunks.join(' || ')
}

// A PostgreSQL function takes 100 arguments at most.
const PAIRS_A_CALL = 50

/** A keyed digest (HMAC as in RFC 2104, written out with the server's own sha256; the two padded keys are bound). */
function digestSql(value: string, slots: SlotList): string {
  const key = slots.add({ name: ':digestKey', type: 'bytea[]', sensitive: true, source: { from: 'digest key' } })
  const pad = (at: number) => `(${key}::bytea[])[${at}]`
  return `'hmac:' || left(encode(sha256(${pad(2)} || sha256(${pad(1)} || convert_to(${value}::text, 'UTF8'))), 'hex'), ${DIGEST_DIGITS})`
}

/** A column's name as a string constant. Names are no data: they come from the catalogue. */
function literal(name: string): string {
  const quoted = name.replaceAll("'", "''")
  return name.includes('\\') ? ` E'${quoted.replaceAll('\\', '\\\\')}'` : `'${quoted}'`
}
