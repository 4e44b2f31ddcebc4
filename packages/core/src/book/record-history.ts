import { recordHashSql } from '../statement/book-sql.js'
import { blocksOfRecordSql, placeOfBlockSql } from '../statement/image-block-sql.js'
import { bookedKeysSql } from '../statement/canonical-key.js'
import type { KeyTexts, Mapping } from '../mapping/mapping.js'
import { textOfImage } from '../mapping/showable.js'
import type { Rows } from '../sessions/queryable.js'
import type { Target } from '../target/target.js'
import { digestText, isDigest } from '../values/digest.js'
import { digestKeyPads } from '../statement/digest-key.js'
import { keyColumnsOf, movedHereSql, movingSql, staysSql } from './moved-keys.js'

/** What one entry did to a record: columns before and after by name, in text form; null where there was none. */
export interface RecordEvent {
  id: string
  at: string
  actor: string
  kind: string
  transaction: string | null
  note: string | null
  /** Whether it put an earlier entry back. */
  isReversal: boolean
  /** Whether it gave a record this key in place of another, or the record that had this key another; null where it did neither. */
  moved: 'here' | 'away' | null
  /** Whether it wrote the key otherwise, and it is the same all the same. */
  stays: boolean
  /** The number of its step; 0 where the entry is that of one record. */
  step: number
  before: Record<string, string | null> | null
  after: Record<string, string | null> | null
}

/** What was committed to a record, the newest first; nothing where the book is not prepared. */
export async function recordEvents(
  target: Target,
  mapping: Mapping,
  key: KeyTexts,
  most: number,
): Promise<RecordEvent[]> {
  if (mapping.key.length === 0) return []
  if (!(await target.isBookPrepared())) return []
  const parts = mapping.key.map(({ name }) => key.get(name) ?? '')
  const values = [JSON.stringify(parts), mapping.table.path, String(most), keyColumnsOf(mapping)]
  const pads = mapping.key.some(({ sensitive }) => sensitive)
    ? `$${values.push(digestKeyPads(target.digestKey))}`
    : null
  const given = `given as (select array(select jsonb_array_elements_text($1::jsonb)) as parts),
written as (select array(select jsonb_array_elements_text($4::jsonb)) as columns, keys.key from given cross join lateral ${bookedKeysSql(mapping, 'given.parts', pads)} as keys)`
  const { rows } = await target.readBook(historySql(given), values)
  return eventsOf(target, mapping, rows).map((event) => ({
    ...event,
    moved: event.moved ?? (changesKey(mapping, event) && !event.stays ? 'away' : null),
  }))
}

/** A record's key of other columns, in the form of the book. */
export interface OtherKey {
  columns: readonly string[]
  key: readonly string[]
}

/**
 * What was committed to a record by other keys of its table, the newest first: only since it has the key of this mapping, where one of
 * these entries gave it that. `isCut` says that it had another of these keys before, whose entries are not among them.
 */
export async function otherEvents(
  target: Target,
  mapping: Mapping,
  keys: readonly OtherKey[],
  most: number,
): Promise<{ events: RecordEvent[]; isCut: boolean }> {
  if (keys.length === 0) return { events: [], isCut: false }
  const each = (member: string) => `array(select jsonb_array_elements_text(x.value->'${member}'))`
  const given = `written as (select ${each('columns')} as columns, ${each('key')} as key from jsonb_array_elements($1::jsonb) as x(value))`
  const { rows } = await target.readBook(historySql(given), [JSON.stringify(keys), mapping.table.path, String(most)])
  const events: RecordEvent[] = []
  let isCut = false
  for (const event of eventsOf(target, mapping, rows)) {
    isCut ||= event.moved !== null
    const isHere = changesKey(mapping, event)
    events.push({ ...event, moved: isHere ? 'here' : null })
    if (isHere) break
  }
  return { events, isCut }
}

/** Whether the images of a record say that it was given another key of this mapping. */
function changesKey({ key }: Mapping, { before, after }: RecordEvent): boolean {
  return key.some(({ column: { name } }) => before && after && before[name] !== after[name])
}

function eventsOf(target: Target, mapping: Mapping, rows: Rows['rows']): RecordEvent[] {
  const byColumn = new Map(mapping.properties.map((property) => [property.column.name, property]))
  const sent = (image: RecordEvent['before']) =>
    image &&
    Object.fromEntries(
      Object.entries(image).map(([name, text]) => {
        const property = byColumn.get(name)
        // What has become sensitive since was written in clear then.
        const isOpen = property?.sensitive && text !== null && !isDigest(text)
        const shown = isOpen ? digestText(target.digestKey, text) : property ? textOfImage(property, text) : text
        return [name, shown]
      }),
    )
  return rows.map(([json]) => {
    const event = JSON.parse(json ?? '') as RecordEvent
    return { ...event, before: sent(event.before), after: sent(event.after) }
  })
}

/** The images are found first, then their entries read once each: what one says of itself and of its steps is one text, however long. */
function historySql(written: string): string {
  return `
with ${written},
wanted as (select columns, key, ${recordHashSql('key')} as record from written), found as materialized (
  select w.columns, w.key, i.entry, i.step, i.before, i.after from wanted w join ledgerman.image i on i.record = w.record and i.key = w.key
  union all
  select w.columns, w.key, i.entry, i.step, i.before, i.after from wanted w cross join lateral (${blocksOfRecordSql(
    'w.key',
    `b.entry, b.step, ${placeOfBlockSql('before')}, ${placeOfBlockSql('after')}`,
  )}) i
), steps as materialized (
  select p.entry, p.no, p.statement
  from (select entry, array_agg(step) as numbers from found group by entry) as f join ledgerman.step p on p.entry = f.entry and p.no = any (f.numbers)
), said as materialized (
  select e.id, e.at, e.actor, e.note, e.run->>'transaction' as transaction, coalesce(e.run ? 'reverses', false) as is_reversal
  from ledgerman.entry e where e.id in (select entry from found)
), events as (
  select e.id, e.at, e.actor, s.kind, e.note, null as transaction, false as is_reversal, jsonb_object(s.touched, e.before) as before, jsonb_object(s.touched, e.after) as after, 0 as step, ${staysSql('e', 's', 'w.key')} as stays
  from wanted w join ledgerman.entry e on e.record = w.record and e.key = w.key join ledgerman.statement s on s.id = e.statement
  where e.outcome = 'committed' and s.relation = $2 and s.key_columns = w.columns and e.changed > 0
  union all
  select e.id, e.at, e.actor, s.kind, e.note, e.transaction, e.is_reversal, jsonb_object(s.touched, i.before), jsonb_object(s.touched, i.after), i.step, ${staysSql('i', 's', 'i.key')}
  from found i join steps p on p.entry = i.entry and p.no = i.step join ledgerman.statement s on s.id = p.statement
    join said e on e.id = i.entry
  where s.relation = $2 and s.key_columns = i.columns
), ${movingSql('$2')}, moved as (${movedHereSql(
    `e.id, e.at, e.actor, 'change' as kind, e.note, e.run->>'transaction' as transaction, coalesce(e.run ? 'reverses', false) as is_reversal,
    jsonb_object(m.touched, i.before) as before, jsonb_object(m.touched, i.after) as after, i.no as step, false as stays`,
  )}
), told as (
  select *, null as moved from events union all select *, 'here' from moved
)
select json_build_object('id', id, 'at', to_char(at at time zone 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS.US"Z"'), 'actor', actor, 'kind', kind, 'note', note, 'transaction', transaction, 'isReversal', is_reversal, 'moved', moved, 'stays', stays, 'step', step, 'before', before, 'after', after)::text
from told order by at desc, id desc, step desc limit $3::integer`
}
