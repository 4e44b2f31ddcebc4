import type { Links } from '../mapping/links.js'
import type { Mapping, Property } from '../mapping/mapping.js'
import type { ValueType } from '../expression/value-type.js'
import { storedSql } from '../values/sql-form.js'
import { finderSql, rowsDigestSql, type Finder } from './build-load-step.js'
import { imageInsertSql } from './book-sql.js'
import { sameKeySql } from './key-sql.js'
import { guardHoldsSql, guardValueSql } from './guard-sql.js'
import { comparableImageSql } from './image-sql.js'
import { Aliases, Joins } from './joins.js'
import { brokenRuleSql, changesKey, freshNames, guardAfterSql, outputSql, touchedBy } from './keyed-statement.js'
import { valueSql, type NamedExpression, type Surroundings } from './record-scope.js'
import { aroundAdd, aroundWrite, shortAddText, shortWriteText, toShortForm } from './short-form.js'
import { SlotList, toStatement, type ShortForm, type Statement } from './statement.js'
import { setSql, versionBumpSql } from './set-sql.js'

/** How a property gets its new value: a literal one, checked already, or an expression. */
export type NewValue = { property: Property } & ({ text: string | null } | { expression: NamedExpression })

/** A writing step of a transaction, built. */
export interface WriteStep {
  mapping: Mapping
  /** The step itself: what receipts show, and what a rehearsal runs. */
  step: Statement
  /** The same with the part that writes the images. Its slots begin with those of `step`. */
  run: Statement
  set: Property[]
  touched: Property[]
  /** Values the record has to have, by property. */
  expectedTexts: ReadonlyMap<string, string | null>
  /** What it was built from. */
  shape: WriteShape | AddShape
}

/**
 * The columns behind the values before, in order, and before those after: for this row whether its guard holds, whether it
 * has the expected values, whether its image would differ, whether it was written; its guard before and after; then for all
 * rows how many were found and written, how many were refused for their guard, how many should have been written and were not,
 * the first rule that one of them breaks, a digest of all rows before, and whether another row of the table was left out.
 */
export const WRITE_FLAGS = [
  'guardHolds',
  'asExpected',
  'differs',
  'written',
  'guardBefore',
  'guardAfter',
  'matched',
  'changed',
  'refused',
  'unwritten',
  'brokenRule',
  'digest',
  'leavesOut',
] as const

export interface WriteShape {
  kind: 'change' | 'replace' | 'remove'
  finder: Finder
  values: readonly NewValue[]
  expected: readonly NewValue[]
  guarded: boolean
  skipLocked: boolean
  /** Whether it has to be found out that the condition leaves rows out. */
  checksLeftOut: boolean
}

export interface AddShape {
  kind: 'add'
  values: readonly NewValue[]
  onExisting: 'refuse' | 'keep' | 'change'
}

/**
 * Builds a step that changes or removes what a key or a condition finds, as one statement: found and locked first, in key
 * order, each row's new values computed from what was locked, then written where its image would differ.
 */
export function buildWriteStep(
  mapping: Mapping,
  shape: WriteShape,
  links: Links,
  surroundings: (slots: SlotList) => Surroundings,
): WriteStep {
  const set = shape.values.map(({ property }) => property)
  const touched = shape.kind === 'remove' ? mapping.properties : touchedBy(mapping, set)
  const build = (isBooked: boolean) => writeStatement(mapping, shape, touched, links, surroundings, isBooked)
  const expectedTexts = new Map(
    shape.expected.map((value) => [value.property.name, 'text' in value ? value.text : null]),
  )
  return { mapping, step: build(false), run: build(true), set, touched, expectedTexts, shape }
}

function writeStatement(
  mapping: Mapping,
  shape: WriteShape,
  touched: Property[],
  links: Links,
  surroundingsOf: (slots: SlotList) => Surroundings,
  isBooked: boolean,
): Statement {
  const { kind, finder, values, expected, guarded, skipLocked } = shape
  const { table, key } = mapping
  const slots = new SlotList()
  const surroundings = surroundingsOf(slots)
  const joins = new Joins(mapping, 't', links, new Aliases())
  const extra = freshNames(mapping, ['guard_holds', 'as_expected', 'differs', 'guard', 'written', 'place', 'part'])
  const set = setSql(
    mapping,
    values.map(({ property }) => property),
  )
  const newSql = values.map((value, at) => `${newValueSql(value, joins, slots, surroundings)} as ${set.names[at]}`)
  const condition = finderSql(mapping, finder, joins, slots, surroundings)
  const isRemove = kind === 'remove'
  const guardHolds = guarded ? guardHoldsSql(mapping.guard, 't', slots) : 'true'
  const asExpected = expectedSql(expected, slots)
  // Rows of tables that inherit may have the key of another.
  const byPlace = key.length === 0 || table.hasChildren
  const keyNames = key.map((_, at) => freshNames(mapping, [`key_${at + 1}`])[`key_${at + 1}`] ?? '')
  const join = byPlace ? `t.ctid = hit.${extra.place} and t.tableoid = hit.${extra.part}` : sameKeySql(key, 't', 'hit')
  const place = byPlace ? `,\n    t.ctid as ${extra.place}, t.tableoid as ${extra.part}` : ''
  const order = key.length === 0 ? '' : `\n  order by ${key.map(({ column }) => `t.${column.sql}`).join(', ')}`
  const lock =
    isRemove ||
    changesKey(
      mapping,
      values.map(({ property }) => property),
    )
      ? 'update'
      : 'no key update'
  const differs = isRemove ? 'true' : set.differs
  const mayWrite = [`hit.${extra.guard_holds}`, `hit.${extra.as_expected}`, `hit.${extra.differs}`].join(' and ')
  const returning = `${touched.map(({ column }) => `t.${column.sql}`).join(', ')}, ${isRemove ? 'null::text' : guardAfterSql(mapping, 't')} as ${extra.guard}, true as ${extra.written}${byPlace ? `, hit.${extra.place}, hit.${extra.part}` : ''}`
  const write = isRemove
    ? `delete from ${table.sql} as t\n  using hit\n  where ${join} and ${mayWrite}`
    : `update ${table.sql} as t\n  set ${set.assignments}\n  from hit\n  where ${join} and ${mayWrite}`
  const doneJoin = byPlace
    ? `done.${extra.place} = hit.${extra.place} and done.${extra.part} = hit.${extra.part}`
    : sameKeySql(key, 'hit', 'done', keyNames)
  // The key as it was: a step may set it.
  const doneKey = key.map(({ column }, at) => `, hit.${column.sql} as ${keyNames[at]}`).join('')

  // The values found come first, so that what is computed from them and compared with them is computed once.
  const text = `with found as (
  select ${mapping.properties.map(({ column }) => `t.${column.sql}`).join(', ')}${newSql.length > 0 ? `,\n    ${newSql.join(',\n    ')}` : ''},
    ${guardHolds} as ${extra.guard_holds}, ${asExpected} as ${extra.as_expected},
    ${guardValueSql(mapping.guard, 't')} as ${extra.guard}${place}
  from ${table.sql} as t${joins.sql}
  where ${condition}${order}
  for ${lock} of t${skipLocked ? ' skip locked' : ''}
), hit as (
  select hit.*, ${differs} as ${extra.differs} from found as hit
), done as (
  ${write}
  returning ${returning}${doneKey}
)`
  const brokenRule = isRemove
    ? 'null::integer'
    : brokenRuleSql(
        mapping,
        `done.${extra.written}`,
        (property) => `${touched.includes(property) ? 'done' : 'hit'}.${property.column.sql}`,
        slots,
      )
  const from = `from hit left join done on ${doneJoin}`
  const limit = slots.add({ name: ':limit', type: 'integer', sensitive: false, source: { from: 'limit' } })
  const refused = `not (hit.${extra.guard_holds} and hit.${extra.as_expected})`
  const unwritten = `${mayWrite} and done.${extra.written} is null`
  const leftOut = shape.checksLeftOut
    ? `exists (select 1 from ${table.sql} as t${joins.sql} where (${condition}) is not true)`
    : 'true'
  // Whoever breaks a rule comes first, so that it can be named.
  const ruleOrder = mapping.rules.length === 0 || isRemove ? '' : `, ${brokenRule} nulls last`
  const book = isBooked ? imageInsertSql({ mapping, slots, touched, isRemove, written: extra.written, from }) : ''
  return toStatement(
    `${text}${book}
select ${outputSql('hit', mapping.properties)},
  hit.${extra.guard_holds}, hit.${extra.as_expected}, hit.${extra.differs}, done.${extra.written}, hit.${extra.guard}, done.${extra.guard},
  count(*) over (), pg_catalog.count(done.${extra.written}) over (), count(*) filter (where ${refused}) over (), count(*) filter (where ${unwritten}) over (),
  min(${brokenRule}) over (), ${rowsDigestSql(`row(${mapping.properties.map(({ column }) => `hit.${column.sql}`).join(', ')})`, 'where' in finder)}, ${leftOut},
  ${outputSql('done', touched)}
${from}
order by ${refused} desc${ruleOrder}${key.length === 0 ? '' : `, ${key.map(({ column }) => `hit.${column.sql}`).join(', ')}`}
limit ${limit}::integer`,
    slots,
    () => shortWriteStep(mapping, shape, links, surroundingsOf, slots),
  )
}

function shortWriteStep(
  mapping: Mapping,
  { kind, finder, values, expected, guarded }: WriteShape,
  links: Links,
  surroundingsOf: (slots: SlotList) => Surroundings,
  whole: SlotList,
): ShortForm | undefined {
  const slots = new SlotList()
  const surroundings = surroundingsOf(slots)
  const joins = new Joins(mapping, 't', links, new Aliases())
  const set = values.map(({ property }) => property)
  const news = values.map((value) => newValueSql(value, joins, slots, surroundings))
  const condition = finderSql(mapping, finder, joins, slots, surroundings, true)
  const isRemove = kind === 'remove'
  const checks = {
    isOne: 'key' in finder,
    isGuarded: guarded,
    expected: expected.map(({ property }) => property),
    differs: !isRemove,
    isRemove,
  }
  return toShortForm(
    shortWriteText({ mapping, isRemove, set, news, condition, joins: joins.sql }),
    slots,
    whole,
    aroundWrite(mapping, checks),
  )
}

/** Builds the addition of one record in a transaction. Row shape as `buildWriteStep`, with no values before. */
export function buildAddStep(
  mapping: Mapping,
  shape: AddShape,
  surroundingsOf: (slots: SlotList) => Surroundings,
): WriteStep {
  const set = shape.values.map(({ property }) => property)
  const build = (isBooked: boolean) => addStatement(mapping, shape, surroundingsOf, isBooked)
  const expectedTexts = new Map<string, string | null>()
  return { mapping, step: build(false), run: build(true), set, touched: mapping.properties, expectedTexts, shape }
}

function addStatement(
  mapping: Mapping,
  { values, onExisting }: AddShape,
  surroundingsOf: (slots: SlotList) => Surroundings,
  isBooked: boolean,
): Statement {
  const slots = new SlotList()
  const surroundings = surroundingsOf(slots)
  const extra = freshNames(mapping, ['guard', 'written'])
  const columns = values.map(({ property }) => property.column.sql)
  const news = values.map((value) => newValueSql(value, null, slots, surroundings))
  const source = values.length > 0 ? `(${columns.join(', ')})\n  values (${news.join(', ')})` : 'default values'
  const keyColumns = mapping.key.map(({ column }) => column.sql).join(', ')
  const others = values.filter(({ property }) => !property.key)
  const version = versionBumpSql(mapping, 't')
  const overwrite = others.map(({ property: { column } }) => `${column.sql} = excluded.${column.sql}`).concat(version)
  const differs = `pg_catalog.record_image_ne(row(${others.map(({ property }) => `t.${property.column.sql}`).join(', ')}), row(${others.map(({ property }) => `excluded.${property.column.sql}`).join(', ')}))`
  const conflict =
    onExisting === 'refuse'
      ? ''
      : onExisting === 'keep' || others.length === 0
        ? `\n  on conflict (${keyColumns}) do nothing`
        : `\n  on conflict (${keyColumns}) do update set ${overwrite.join(', ')} where ${differs}`
  const insert = `with done as (
  insert into ${mapping.table.sql} as t ${source}${conflict}
  returning ${mapping.properties.map(({ column }) => `t.${column.sql}`).join(', ')}, ${guardAfterSql(mapping, 't')} as ${extra.guard}, true as ${extra.written}
)`
  const brokenRule = brokenRuleSql(mapping, `done.${extra.written}`, ({ column }) => `done.${column.sql}`, slots)
  const book = isBooked
    ? imageInsertSql({
        mapping,
        slots,
        touched: mapping.properties,
        isRemove: false,
        written: extra.written,
        from: 'from done',
        isAdd: true,
      })
    : ''
  return toStatement(
    `${insert}${book}
select true, true, true, done.${extra.written}, null::text, done.${extra.guard}, 1, 1, 0, 0, ${brokenRule}, 0, true,
  ${outputSql('done', mapping.properties)}
from done`,
    slots,
    () => {
      const own = new SlotList()
      const around = surroundingsOf(own)
      const texts = values.map((value) => newValueSql(value, null, own, around))
      const text = shortAddText(
        mapping,
        values.map(({ property }) => property),
        texts,
        conflict,
      )
      return toShortForm(text, own, slots, aroundAdd(mapping))
    },
  )
}

/** The SQL of a new value, cast as its column stores it. */
export function newValueSql(value: NewValue, joins: Joins | null, slots: SlotList, surroundings: Surroundings): string {
  const { property } = value
  const { type } = property.column
  if ('text' in value) {
    const placeholder = slots.add({
      name: property.name,
      type: type.sql,
      sensitive: property.sensitive,
      source: { from: 'value', text: value.text, at: property.name },
    })
    return storedSql(placeholder, type)
  }
  const wanted: ValueType = { sql: type.comparable, column: type, sensitive: property.sensitive }
  return `(${valueSql(value.expression, joins, slots, surroundings, wanted)})::${type.sql}`
}

/** Whether the row under `t` has the values that were expected. */
export function expectedSql(expected: readonly NewValue[], slots: SlotList): string {
  if (expected.length === 0) return 'true'
  return comparableImageSql(
    expected.map(({ property }) => property),
    't',
    slots,
  )
}
