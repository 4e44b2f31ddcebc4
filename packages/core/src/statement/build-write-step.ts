import type { Links } from '../mapping/links.js'
import type { Mapping, Property } from '../mapping/mapping.js'
import { addOrChangeStatement } from './build-add-or-change.js'
import { buildDirectAdd, buildDirectWrite } from './build-direct-write.js'
import { finderSql, findsOneAtMost, rowsDigestSql } from './build-load-step.js'
import { imageColumnsSql, imageInsertSql } from './book-sql.js'
import { sameKeySql } from './key-sql.js'
import { extraNames } from './found-sql.js'
import { guardHoldsSql, guardValueSql } from './guard-sql.js'
import { Aliases, Joins } from './joins.js'
import { insertSql, onConflictSql } from './insert-sql.js'
import { brokenRuleSql, lockForWrite, keyColumns, outputSql, touchedBy } from './keyed-statement.js'
import type { Surroundings } from './record-scope.js'
import { expectedSql, newValueSql, type AddShape, type WriteInCode, type WriteShape } from './step-shape.js'
import { aroundAdd, aroundWrite, shortAddText, shortWriteText, toShortForm } from './short-form.js'
import { SlotList, toStatement, type ShortForm, type Statement } from './statement.js'
import { keyNamesOf, WriteParts } from './write-parts.js'

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
  /** The statements of written code, which has no use for a digest of what was found; nor for what was written, unless a later step reads it. */
  inCode(isRead: boolean): WriteInCode
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

/** How many values of the row before stand in front of the flags: none where a step can only add. */
export function widthBefore({ mapping, shape }: Pick<WriteStep, 'mapping' | 'shape'>): number {
  return shape.kind === 'add' && !shape.looks ? 0 : mapping.properties.length
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
  const build = (isBooked: boolean, isForCode = false) =>
    writeStatement(mapping, shape, touched, links, surroundings, { isBooked, isForCode })
  const inCode = (isRead: boolean) => {
    const direct = buildDirectWrite(mapping, { ...shape, touched, isRead }, links, surroundings)
    return direct ?? { write: build(false, true), booked: build(true, true), look: null, isDirect: false }
  }
  const expectedTexts = new Map(
    shape.expected.map((value) => [value.property.name, 'text' in value ? value.text : null]),
  )
  return { mapping, step: build(false), run: build(true), set, touched, expectedTexts, shape, inCode }
}

function writeStatement(
  mapping: Mapping,
  shape: WriteShape,
  touched: Property[],
  links: Links,
  surroundingsOf: (slots: SlotList) => Surroundings,
  { isBooked, isForCode }: { isBooked: boolean; isForCode: boolean },
): Statement {
  const { kind, finder, values, expected, guarded, skipLocked } = shape
  const { table, key } = mapping
  const slots = new SlotList()
  const surroundings = surroundingsOf(slots)
  const joins = new Joins(mapping, 't', links, new Aliases())
  const names = extraNames(mapping)
  const isRemove = kind === 'remove'
  const set = values.map(({ property }) => property)
  const news = values.map((value) => newValueSql(value, joins, slots, surroundings))
  const condition = finderSql(mapping, finder, joins, slots, surroundings)
  const isOne = findsOneAtMost(mapping, finder)
  // Rows of tables that inherit may have the key of another.
  const byPlace = key.length === 0 || table.hasChildren
  const lock = lockForWrite(mapping, set, isRemove)
  const parts = new WriteParts({
    mapping,
    isRemove,
    set,
    news,
    from: `${table.sql} as t${joins.sql}`,
    condition,
    end: [
      ...(isOne || key.length === 0 ? [] : [`order by ${keyColumns(mapping, 't')}`]),
      `for ${lock} of t${skipLocked ? ' skip locked' : ''}`,
    ],
    columns: mapping.properties,
    touched,
    guard: guardValueSql(mapping.guard, 't'),
    guardHolds: guarded ? guardHoldsSql(mapping.guard, 't', slots) : 'true',
    asExpected: expectedSql(expected, slots),
    beside: byPlace ? [`t.ctid as ${names.place}`, `t.tableoid as ${names.part}`] : [],
  })
  const keyNames = keyNamesOf(mapping)
  const samePlace = (alias: string, part = names.part, place = names.place) =>
    `${alias}.${place} = hit.${names.place} and ${alias}.${part} = hit.${names.part}`
  // The key as it was: a step may set it.
  const keys = key.map(({ column }, at) => `hit.${column.sql} as ${keyNames[at]}`)
  const leftOut = shape.checksLeftOut
    ? `exists (select 1 from ${table.sql} as t${joins.sql} where (${condition}) is not true)`
    : 'true'
  const told = isOne ? toldOfOne(parts, slots) : toldOfAll(parts, slots, 'where' in finder && !isForCode, leftOut)
  // Slots of the book come last: those before are the step's own.
  const sides = { before: 'hit', after: isRemove ? null : 't' }
  const images = isBooked ? imageColumnsSql(mapping, slots, touched, sides) : []
  const written = parts.written('hit', {
    join: byPlace ? samePlace('t', 'tableoid', 'ctid') : sameKeySql(key, 't', 'hit'),
    returned: [...(byPlace ? [`hit.${names.place}`, `hit.${names.part}`] : []), ...(isOne ? [] : keys), ...images],
  })
  const doneJoin = isOne ? 'true' : byPlace ? samePlace('done') : sameKeySql(key, 'hit', 'done', keyNames)
  const from = `from hit left join done on ${doneJoin}`
  const book = isBooked ? imageInsertSql(mapping, slots) : ''
  const flags = [
    ...FLAGS.map((name) => parts.flag(name)),
    ...[`done.${names.written}`, `hit.${names.guard}`, `done.${names.guard}`],
  ]
  return toStatement(
    `with hit as (
  ${parts.found()}
), done as (
  ${written}
)${book}
select ${outputSql('hit', mapping.properties)},
  ${flags.join(', ')},
  ${told.columns},
  ${outputSql('done', touched)}
${[from, ...told.end].join('\n')}`,
    slots,
    () => shortWriteStep(mapping, shape, links, surroundingsOf, slots),
  )
}

const FLAGS = ['guard_holds', 'as_expected', 'differs'] as const

/** What is told of the one row that can be found. */
function toldOfOne(parts: WriteParts, slots: SlotList): { columns: string; end: string[] } {
  const count = (condition: string) => (condition === 'false' ? '0' : `case when ${condition} then 1 else 0 end`)
  const counts = [count(`done.${parts.names.written}`), count(parts.refused()), count(parts.unwritten())]
  return { columns: `1, ${counts.join(', ')}, ${parts.brokenRule(slots)}, null::bigint, true`, end: [] }
}

/** What is told of all rows beside each of them; whoever was refused, or breaks a rule, comes first, so that it can be named. */
function toldOfAll(
  parts: WriteParts,
  slots: SlotList,
  isDigestNeeded: boolean,
  leftOut: string,
): { columns: string; end: string[] } {
  const { mapping, isRemove } = parts.shape
  const refused = parts.refused()
  const brokenRule = parts.brokenRule(slots)
  const row = `row(${mapping.properties.map(({ column }) => `hit.${column.sql}`).join(', ')})`
  const limit = slots.add({ name: ':limit', type: 'integer', sensitive: false, source: { from: 'limit' } })
  const order = [
    ...(refused === 'false' ? [] : [`${refused} desc`]),
    ...(mapping.rules.length === 0 || isRemove ? [] : [`${brokenRule} nulls last`]),
    ...(mapping.key.length === 0 ? [] : [keyColumns(mapping, 'hit')]),
  ]
  return {
    columns: `count(*) over (), pg_catalog.count(done.${parts.names.written}) over (), ${refused === 'false' ? '0' : `count(*) filter (where ${refused}) over ()`}, count(*) filter (where ${parts.unwritten()}) over (),
  min(${brokenRule}) over (), ${rowsDigestSql(row, isDigestNeeded)}, ${leftOut}`,
    end: [...(order.length > 0 ? [`order by ${order.join(', ')}`] : []), `limit ${limit}::integer`],
  }
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
  const statement = shape.looks ? addOrChangeStatement : addStatement
  const build = (isBooked: boolean) => statement(mapping, shape, surroundingsOf, isBooked)
  const expectedTexts = new Map<string, string | null>()
  const [step, run] = [build(false), build(true)]
  const inCode = (isRead: boolean) =>
    shape.looks
      ? { write: step, booked: run, look: null, isDirect: false }
      : buildDirectAdd(mapping, { ...shape, isRead }, surroundingsOf)
  return { mapping, step, run, set, touched: mapping.properties, expectedTexts, shape, inCode }
}

function addStatement(
  mapping: Mapping,
  { values, onExisting }: AddShape,
  surroundingsOf: (slots: SlotList) => Surroundings,
  isBooked: boolean,
): Statement {
  const slots = new SlotList()
  const surroundings = surroundingsOf(slots)
  const extra = extraNames(mapping)
  const set = values.map(({ property }) => property)
  const news = values.map((value) => newValueSql(value, null, slots, surroundings))
  const onConflict = onConflictSql(mapping, values, onExisting)
  const brokenRule = brokenRuleSql(mapping, `done.${extra.written}`, ({ column }) => `done.${column.sql}`, slots)
  const sides = { before: null, after: 't' }
  const returned = isBooked ? imageColumnsSql(mapping, slots, mapping.properties, sides) : []
  const insert = insertSql(mapping, { set, values: `values (${news.join(', ')})`, onConflict, returned })
  const book = isBooked ? imageInsertSql(mapping, slots) : ''
  return toStatement(
    `with done as (
  ${insert}
)${book}
select true, true, true, done.${extra.written}, null::text, done.${extra.guard}, 1, 1, 0, 0, ${brokenRule}, 0, true,
  ${outputSql('done', mapping.properties)}
from done`,
    slots,
    () => {
      const own = new SlotList()
      const around = surroundingsOf(own)
      const texts = values.map((value) => newValueSql(value, null, own, around))
      const text = shortAddText(mapping, set, texts, onConflict)
      return toShortForm(text, own, slots, aroundAdd(mapping))
    },
  )
}
