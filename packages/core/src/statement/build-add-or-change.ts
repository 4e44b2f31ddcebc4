import type { Mapping } from '../mapping/mapping.js'
import { equalSql } from '../values/operator-sql.js'
import { imageColumnsSql, imageInsertSql } from './book-sql.js'
import { foundSql } from './found-sql.js'
import { guardValueSql } from './guard-sql.js'
import { insertSql, onConflictSql } from './insert-sql.js'
import { lockForWrite, outputSql } from './keyed-statement.js'
import type { Surroundings } from './record-scope.js'
import { aroundAdd, shortAddText, toShortForm } from './short-form.js'
import { newValueSql, type AddShape } from './step-shape.js'
import { SlotList, toStatement, type Statement } from './statement.js'
import { WriteParts } from './write-parts.js'

/**
 * Builds the step that adds a record, or changes it where it is there already, as one statement: the row is looked for and locked, then it is
 * changed where it would differ, or added where there was none; where it is to be kept, it is read only. So it is told apart, with what it was before, and one that stays as it is
 * is not written. Its row is that of a write (`WRITE_FLAGS`), without values before where there was none.
 *
 * It gives no row at all where somebody added the record since the statement began, or a trigger keeps it from being added.
 */
export function addOrChangeStatement(
  mapping: Mapping,
  { values, onExisting }: AddShape,
  surroundingsOf: (slots: SlotList) => Surroundings,
  isBooked: boolean,
): Statement {
  const { table, key, properties } = mapping
  const slots = new SlotList()
  const surroundings = surroundingsOf(slots)
  const set = values.map(({ property }) => property)
  const news = values.map((value) => newValueSql(value, null, slots, surroundings))
  const places = values.flatMap(({ property }, at) => (property.key ? [] : [at]))
  const others = places.flatMap((at) => set[at] ?? [])
  const isKept = onExisting === 'keep'
  const found = {
    mapping,
    // One that a table inheriting from it has is another record: an INSERT would not meet it.
    from: `${table.hasChildren ? 'only ' : ''}${table.sql} as t`,
    condition: key
      .map((property) =>
        equalSql(`t.${property.column.sql}`, news[set.indexOf(property)] ?? 'null', property.column.type),
      )
      .join(' and '),
    end: isKept ? [] : [`for ${lockForWrite(mapping, others, false)} of t`],
    columns: properties,
    guard: guardValueSql(mapping.guard, 't'),
  }
  const parts = new WriteParts({
    ...found,
    isRemove: false,
    set: others,
    news: places.flatMap((at) => news[at] ?? []),
    touched: properties,
    guardHolds: 'true',
    asExpected: 'true',
  })
  const { names } = parts
  const count = (condition: string) => `case when ${condition} then 1 else 0 end`
  const flags = [
    'true, true',
    `hit.${names.differs}`,
    `done.${names.written}`,
    `hit.${names.guard}`,
    `done.${names.guard}`,
  ]
  const told = [
    `${isKept ? count(`done.${names.written}`) : 1}, ${count(`done.${names.written}`)}, 0, ${count(parts.unwritten())}`,
    parts.brokenRule(slots),
    'null::bigint, true',
  ]
  // Slots of the book come last: those before are the step's own.
  const images = (before: string | null) =>
    isBooked ? imageColumnsSql(mapping, slots, properties, { before, after: 't' }) : []
  const changed = isKept ? '' : parts.written('hit', { returned: images('hit') })
  const added = insertSql(mapping, {
    set,
    values: `select ${news.join(', ')} where not exists (select 1 from hit)`,
    onConflict: `\n  on conflict (${key.map(({ column }) => column.sql).join(', ')}) do nothing`,
    returned: images(null),
  })
  return toStatement(
    `with hit as (
  ${isKept ? foundSql({ ...found, beside: [`false as ${names.differs}`] }) : parts.found()}
), ${isKept ? '' : `changed as (\n  ${changed}\n), `}added as (
  ${added}
), done as (
  ${isKept ? '' : 'select * from changed union all '}select * from added
)${isBooked ? imageInsertSql(mapping, slots) : ''}
select ${outputSql('hit', properties)},
  ${flags.join(', ')},
  ${told.join(', ')},
  ${outputSql('done', properties)}
from (select 1) as one left join hit on true left join done on true
where hit.${names.differs} is not null or done.${names.written}`,
    slots,
    () => {
      const own = new SlotList()
      const around = surroundingsOf(own)
      const texts = values.map((value) => newValueSql(value, null, own, around))
      const text = shortAddText(mapping, set, texts, onConflictSql(mapping, values, onExisting))
      const first = isKept ? 'Looks for the row first.' : 'Finds and locks the row first, where it is there.'
      return toShortForm(text, own, slots, [first, ...aroundAdd(mapping)])
    },
  )
}
