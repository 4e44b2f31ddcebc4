import type { Property } from '../mapping/mapping.js'
import { imagesDifferSql, pairsOf } from '../statement/image-sql.js'
import { imageBlockSql } from '../statement/image-block-sql.js'
import { sameKeySql } from '../statement/key-sql.js'
import { guardAfterSql, outputSql } from '../statement/keyed-statement.js'
import { ruleVerdictSql } from '../statement/rule-sql.js'
import { versionBumpSql } from '../statement/set-sql.js'
import { aroundWrite, shortWriteText, toShortForm } from '../statement/short-form.js'
import { SlotList, toStatement, type ShortForm, type Statement } from '../statement/statement.js'
import { storedSql } from '../values/sql-form.js'
import { GIVEN, givenColumn, HIT } from './bulk-shape.js'

import { fillHitSql, SHOWN_ROWS } from './find-statements.js'
import { type FoundRows, orderSql } from './found-rows.js'

/** The images of the rows that will be written, where what they will be is known before; gives how many those are. */
export function images(rows: FoundRows): Statement {
  const slots = new SlotList()
  const block = rows.blockOfFound(slots, `from ${rows.hit(slots)}\n    where ${rows.mayWrite(slots)}`)
  return toStatement(
    `with booked as (\n  ${block}\n  returning rows\n)\nselect coalesce(pg_catalog.sum(rows), 0) from booked`,
    slots,
  )
}

/**
 * Writes the rows; its command tag says how many. What it writes was computed in the same snapshot as everything before.
 *
 * @param isJudged whether all rows that are found were found to be written, in this snapshot: then nothing is asked of them twice.
 */
export function write(rows: FoundRows, isJudged: boolean): Statement {
  const slots = new SlotList()
  const { mapping, kind, set, given } = rows.shape
  const joins = rows.shape.newJoins()
  const news = rows.shape.news(joins, slots)
  const condition = rows.shape.condition(joins, slots)
  const lines = given ? ` and ${rows.lines(slots)}` : ''
  const where = `(${condition})${lines}${isJudged ? '' : judgedSql(rows, news, slots)}`
  const assignments = [...set.map(({ column }, at) => `${column.sql} = ${news[at]}`), ...versionBumpSql(mapping, 't')]
  const source = given ? `${GIVEN} as g` : ''
  return toStatement(
    kind === 'remove'
      ? `delete from ${mapping.table.sql} as t${source ? `\nusing ${source}` : ''}\nwhere ${where}`
      : `update ${mapping.table.sql} as t\nset ${assignments.join(', ')}${source ? `\nfrom ${source}` : ''}\nwhere ${where}`,
    slots,
    () => shortBulk(rows, slots),
  )
}

/** What a found row has to be like to be written, to stand behind its condition. */
function judgedSql(rows: FoundRows, news: readonly string[], slots: SlotList): string {
  const { mapping, kind, set } = rows.shape
  const guard = rows.isGuarded ? ` and ${rows.guardHolds(slots)}` : ''
  if (kind === 'remove') return guard
  const differs = imagesDifferSql(pairsOf('t', set, news))
  if (mapping.rules.length === 0) return `${guard} and ${differs}`
  const verdict = ruleVerdictSql(mapping, (property) => rows.valueAfter(property, 't', news), slots)
  return `${guard} and ${differs} and (${verdict}) is null`
}

/** The result of a change of many records. */
export function shortBulk({ shape, isGuarded, isStaged }: FoundRows, whole: SlotList): ShortForm | undefined {
  const slots = new SlotList()
  const joins = shape.newJoins()
  const news = shape.news(joins, slots)
  const condition = shape.condition(joins, slots)
  const isRemove = shape.kind === 'remove'
  const source = shape.given ? `${GIVEN} as g` : ''
  const text = shortWriteText({
    mapping: shape.mapping,
    isRemove,
    set: shape.set,
    news,
    condition,
    joins: joins.sql,
    source,
  })
  const isLeft = shape.given?.left !== undefined
  const checks = {
    isOne: false,
    isSnapshot: !isStaged,
    isGuarded: isGuarded && !isLeft,
    isLeft,
    expected: [],
    differs: !isRemove,
    isRemove,
  }
  return toShortForm(text, slots, whole, aroundWrite(shape.mapping, checks))
}

/**
 * Writes the rows that were locked and kept, with their images: what they are afterwards only the database knows. Row shape: how many
 * were written, how many of them break a rule; then as `sample`.
 */
export function writeStaged(rows: FoundRows, isBooked: boolean): Statement {
  const slots = new SlotList()
  return toStatement(writeStagedSql(rows, slots, isBooked), slots)
}

/** Both statements of a change whose rows are locked and kept first, as receipts show them. */
export function stagedStatements(rows: FoundRows): Statement {
  const slots = new SlotList()
  return toStatement(`${fillHitSql(rows, slots)};\n\n${writeStagedSql(rows, slots, false)}`, slots, () =>
    shortBulk(rows, slots),
  )
}

function writeStagedSql(rows: FoundRows, slots: SlotList, isBooked: boolean): string {
  const { mapping, kind, touched } = rows.shape
  const isRemove = kind === 'remove'
  const { line, place, part } = rows.extra
  const join = rows.byPlace ? `t.ctid = hit.${place} and t.tableoid = hit.${part}` : sameKeySql(mapping.key, 't', 'hit')
  const lines = rows.shape.given ? ` and ${rows.hitLines(slots)}` : ''
  const where = `${join}${lines} and ${rows.mayWrite(slots)}`
  // Both sides come out of RETURNING: the row as it was found stands in `hit`.
  const oldName = (property: Property) => `o${mapping.properties.indexOf(property) + 1}`
  const newName = (property: Property) => `n${mapping.properties.indexOf(property) + 1}`
  const returned = [
    `${rows.shape.given ? `hit.${line}` : 'null::bigint'} as l`,
    ...mapping.properties.map((property) => `hit.${property.column.sql} as ${oldName(property)}`),
    ...(isRemove ? [] : mapping.properties.map((property) => `t.${property.column.sql} as ${newName(property)}`)),
    ...(isRemove ? [] : [`${guardAfterSql(mapping, 't')} as gd`]),
    `${rows.byPlace ? `hit.${place}::text` : 'null::text'} as p`,
  ].join(', ')
  const write = isRemove
    ? `delete from ${mapping.table.sql} as t\n  using ${HIT} as hit\n  where ${where}\n  returning ${returned}`
    : `update ${mapping.table.sql} as t\n  set ${rows.set.assignments}\n  from ${HIT} as hit\n  where ${where}\n  returning ${returned}`
  const before = (property: Property) => `done.${oldName(property)}`
  const after = isRemove ? null : (property: Property) => `done.${newName(property)}`
  const rule =
    isRemove || mapping.rules.length === 0
      ? '0'
      : `(select pg_catalog.count(${ruleVerdictSql(mapping, (property) => `done.${newName(property)}`, slots)}) from done)`
  const booked =
    !isBooked || rows.shape.images === 'none'
      ? ''
      : `, booked as (\n  ${rows.block(slots, { before, after, keyOf: before, from: 'from done', place: 'done.p' })}\n)`
  const shown = [
    'done.l',
    ...mapping.key.map((property) => rows.read(before(property), property)),
    ...touched.map((property) => rows.read(before(property), property)),
    ...touched.map((property) => (after ? rows.read(after(property), property) : 'null::text')),
  ].join(', ')
  const order = mapping.key.length === 0 ? '1' : mapping.key.map((property) => before(property)).join(', ')
  return `with done as (\n  ${write}\n)${booked}
select (select pg_catalog.count(*) from done), ${rule}, ${shown}
from done
order by ${order}
limit ${SHOWN_ROWS}`
}

/**
 * Adds the given records that are not there. Row shape as `writeStaged`, with nothing before.
 *
 * @param isAgain whether they were there before: identities are as they were, and the version goes on from the one it had.
 */
export function add(rows: FoundRows, isBooked: boolean, isAgain = false): Statement {
  const slots = new SlotList()
  const { mapping, given } = rows.shape
  if (!given) throw new TypeError('only a file adds records')
  const { properties } = given
  const columns = properties.map(({ column }) => column.sql).join(', ')
  const { guard } = mapping
  const values = properties.map((property) => {
    const value = storedSql(`g.${givenColumn(given, property)}`, property.column.type)
    return isAgain && guard.by === 'version' && guard.property === property ? `${value} + 1` : value
  })
  const rule =
    mapping.rules.length === 0
      ? '0'
      : `(select pg_catalog.count(${ruleVerdictSql(mapping, ({ column }) => `done.${column.sql}`, slots)}) from done)`
  const value = ({ column }: Property) => `done.${column.sql}`
  const booked =
    isBooked && rows.shape.images !== 'none'
      ? `, booked as (\n  ${imageBlockSql({ mapping, slots, step: (rows.shape.step ?? 1) + (isAgain ? 0 : 1), kept: mapping.properties, before: null, after: value, keyOf: value, from: 'from done', place: `''` })}\n)`
      : ''
  return toStatement(
    `with done as (
insert into ${mapping.table.sql} (${columns})${isAgain ? ' overriding system value' : ''}
select ${values.join(', ')} from ${GIVEN} as g
where ${rows.lines(slots)} and not exists (select 1 from ${mapping.table.sql} as t where ${rows.sameKey()})
order by g.no
returning ${mapping.properties.map(({ column }) => column.sql).join(', ')}
)${booked}
select (select pg_catalog.count(*) from done), ${rule}, null::bigint, ${outputSql('done', mapping.key)}, ${mapping.properties.map(() => 'null::text').join(', ')}, ${outputSql('done', mapping.properties)}
from done
order by ${orderSql(mapping, 'done')}
limit ${SHOWN_ROWS}`,
    slots,
  )
}
