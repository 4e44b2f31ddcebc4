import type { Mapping, Property } from '../mapping/mapping.js'
import { readSql } from '../values/sql-form.js'
import { DIGEST_DIGITS } from '../values/digest.js'
import type { EntryField, SlotList } from './statement.js'

interface BookParts {
  mapping: Mapping
  touched: Property[]
  slots: SlotList
  written: string
  guardHolds: string
  differs: string
}

/**
 * The part of a keyed change that writes its entry: one row, since every further one costs the caller. Images hold the
 * touched columns by name, in text form. What does not differ from one use of the statement to the next (mapping, revision,
 * table, its own text) stands once in `ledgerman.statement`.
 */
export function bookInsertSql({ mapping, touched, slots, written, guardHolds, differs }: BookParts): string {
  const field = (name: EntryField, type: string) =>
    `${slots.add({ name: `:${name}`, type, sensitive: false, source: { from: 'entry', field: name } })}::${type}`
  const actor = slots.add({ name: ':actor', type: 'text', sensitive: false, source: { from: 'actor' } })
  const key = mapping.key.map(({ column }) => `hit.${column.sql}::text`).join(', ')
  return `booked as (
  insert into ledgerman.entry (id, actor, outcome, statement, binds, note, key, matched, changed, before, after)
  select ${field('id', 'uuid')}, ${actor}::text, 'committed', ${field('statement', 'bigint')}, ${field('binds', 'text[]')}, ${field('note', 'text')},
    array[${key}], 1, case when done.${written} then 1 else 0 end,
    case when done.${written} then ${imageSql('hit', touched, slots)} end,
    case when done.${written} then ${imageSql('done', touched, slots)} end
  from hit left join done on true
  where hit.${guardHolds} and (not hit.${differs} or done.${written})
)`
}

function imageSql(alias: string, touched: Property[], slots: SlotList): string {
  const pairs = touched.map((property) => {
    const value = readSql(`${alias}.${property.column.sql}`, property.column.type)
    return `${literal(property.column.name)}, ${property.sensitive ? digestSql(value, slots) : `${value}::text`}`
  })
  const chunks: string[] = []
  for (let at = 0; at < pairs.length; at += PAIRS_A_CALL)
    chunks.push(`jsonb_build_object(${pairs.slice(at, at + PAIRS_A_CALL).join(', ')})`)
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
  return name.includes('\\')
    ? ` E'${name.replaceAll('\\', '\\\\').replaceAll("'", "''")}'`
    : `'${name.replaceAll("'", "''")}'`
}
