import type { Mapping, Property } from '../mapping/mapping.js'
import { asComparable, comparableImageSql } from './image-sql.js'
import { bookInsertSql } from './book-sql.js'
import { buildSharedChange } from './build-shared-change.js'
import { guardHoldsSql, guardValueSql } from './guard-sql.js'
import { keyConditionSql, sameKeySql } from './key-sql.js'
import {
  actorSql,
  boundValueSql,
  brokenRuleSql,
  changesKey,
  freshNames,
  guardAfterSql,
  mayWriteSql,
  outputSql,
  touchedBy,
  verdictOrRaiseSql,
  verdictSql,
  type KeyedStatement,
} from './keyed-statement.js'
import type { ChangeShape } from './change-shape.js'
import { mergedSql, type MergePlan } from './merge-sql.js'
import { aroundWrite, shortKeySql, shortWriteText, toShortForm } from './short-form.js'
import { SlotList, toStatement, type ShortForm, type Statement } from './statement.js'
import { versionBumpSql } from './set-sql.js'

/**
 * Builds a keyed change as one statement that locks, judges, writes and books.
 *
 * The row is locked and read first, and changed from what was locked: with the judgement on the table's own columns a
 * caller who waited for the lock would be judged by the state before the wait. A row whose image would not differ is not
 * written. The book's row is written only where the change was; a row that should have been written and was not raises,
 * so that nothing a trigger did in its place stays behind.
 */
export function buildChange(mapping: Mapping, shape: ChangeShape, isBooked: boolean): KeyedStatement {
  const step = changeStatement(mapping, shape, false)
  return {
    kind: shape.kind,
    step,
    run: isBooked ? changeStatement(mapping, shape, true) : step,
    shared: isBooked ? buildSharedChange(mapping, shape) : undefined,
    set: [...shape.set],
    touched: touchedBy(mapping, shape.set),
  }
}

function changeStatement(
  mapping: Mapping,
  { set, merges, expected, guarded }: ChangeShape,
  isBooked: boolean,
): Statement {
  const slots = new SlotList()
  const touched = touchedBy(mapping, set)
  const extra = freshNames(mapping, ['actor', 'guard_holds', 'as_expected', 'differs', 'guard', 'written'])
  const values = new Map(set.map((property) => [property, newValueSql(property, merges.get(property), slots)]))
  const valuesFrom = (alias: string) =>
    [...values].map(([{ column }, value]) => asComparable(value(alias), column.type.kind))
  const keyCondition = keyConditionSql(mapping.key, 't', slots)
  const current = set.map(({ column }) => asComparable(`t.${column.sql}`, column.type.kind))
  const keyJoin = sameKeySql(mapping.key, 't', 'hit')
  const mayWrite = mayWriteSql(
    mapping,
    `hit.${extra.guard_holds}`,
    ...(expected.length > 0 ? [`hit.${extra.as_expected}`] : []),
  )
  const assignments = [...values]
    .map(([{ column }, value]) => `${column.sql} = ${value('hit')}`)
    .concat(versionBumpSql(mapping, 'hit'))

  const hit = `with hit as (
  select ${mapping.properties.map(({ column }) => `t.${column.sql}`).join(', ')},
    ${guarded ? guardHoldsSql(mapping.guard, 't', slots) : 'true'} as ${extra.guard_holds},
${expected.length > 0 ? `    ${comparableImageSql(expected, 't', slots)} as ${extra.as_expected},\n` : ''}    pg_catalog.record_image_ne(row(${current.join(', ')}), row(${valuesFrom('t').join(', ')})) as ${extra.differs},
    ${guardValueSql(mapping.guard, 't')} as ${extra.guard},
    ${actorSql(slots)} as ${extra.actor}
  from ${mapping.table.sql} as t
  where ${keyCondition}
  for ${changesKey(mapping, set) ? 'update' : 'no key update'}
), done as (
  update ${mapping.table.sql} as t
  set ${assignments.join(', ')}
  from hit
  where ${keyJoin} and ${mayWrite} and hit.${extra.differs}
  returning ${touched.map(({ column }) => `t.${column.sql}`).join(', ')}, ${guardAfterSql(mapping, 't')} as ${extra.guard}, true as ${extra.written}
)`
  const brokenRule = brokenRuleSql(
    mapping,
    `done.${extra.written}`,
    ({ column }) => `${touched.some((each) => each.column === column) ? 'done' : 'hit'}.${column.sql}`,
    slots,
  )
  const book = isBooked
    ? bookInsertSql({
        mapping,
        slots,
        key: 'hit',
        changed: `done.${extra.written}`,
        before: { alias: 'hit', properties: touched },
        after: { alias: 'done', properties: touched },
        from: 'hit left join done on true',
        where: `${mayWrite} and (not hit.${extra.differs} or done.${extra.written})`,
      })
    : ''
  const verdict = verdictSql(
    `hit.${extra.guard_holds}`,
    expected.length > 0 ? `hit.${extra.as_expected}` : 'true',
    `hit.${extra.differs}`,
    `done.${extra.written}`,
  )
  const rule = verdictOrRaiseSql(
    isBooked,
    `${mayWrite} and hit.${extra.differs} and done.${extra.written} is null`,
    brokenRule,
  )
  return toStatement(
    `${hit}${book}
select ${outputSql('hit', mapping.properties)},
  ${verdict}, hit.${extra.guard}, done.${extra.guard}, ${rule},
  ${outputSql('done', touched)}
from hit left join done on true`,
    slots,
    () => shortChange(mapping, { set, merges, expected, guarded }, slots),
  )
}

function shortChange(mapping: Mapping, shape: Omit<ChangeShape, 'kind'>, whole: SlotList): ShortForm | undefined {
  const slots = new SlotList()
  const { set, merges, expected, guarded } = shape
  const news = set.map((property) => newValueSql(property, merges.get(property), slots)('t'))
  const condition = shortKeySql(mapping.key, slots)
  const checks = { isOne: true, isGuarded: guarded, expected, differs: true, isRemove: false }
  return toShortForm(
    shortWriteText({ mapping, isRemove: false, set, news, condition, joins: '' }),
    slots,
    whole,
    aroundWrite(mapping, checks),
  )
}

/** The new value of a property: bound, or made from the current one under an alias where only parts are set. */
function newValueSql(property: Property, plan: MergePlan | undefined, slots: SlotList): (alias: string) => string {
  if (plan) return (alias) => mergedSql(property, plan, alias, slots)
  const value = boundValueSql(property, slots)
  return () => value
}
