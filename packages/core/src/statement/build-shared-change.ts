import type { Mapping } from '../mapping/mapping.js'
import { AskedSlots, askedSql } from './asked-slots.js'
import { bookInsertSql } from './book-sql.js'
import type { ChangeShape } from './change-shape.js'
import { guardHoldsSql, guardValueSql } from './guard-sql.js'
import { asComparable, comparableImageSql } from './image-sql.js'
import { keyConditionSql, sameKeySql } from './key-sql.js'
import {
  boundValueSql,
  brokenRuleSql,
  freshNames,
  guardAfterSql,
  mayWait,
  outputSql,
  touchedBy,
  verdictOrRaiseSql,
  verdictSql,
} from './keyed-statement.js'
import { toStatement, type Statement } from './statement.js'
import { setSql } from './set-sql.js'

/**
 * Builds the keyed change of several callers as one statement: each has its own record, guard, values and entry. Row shape: the
 * caller's place, from 1, then as `buildChange` has it. The slots are those of its booked statement, each an array, but in another order.
 *
 * A row that somebody else has locked is left out, so that no caller waits for another's lock; whoever gets no row, or one that was
 * not written and should have been, asks alone.
 *
 * @returns undefined where callers could get into each other's way: where triggers, policies or rules see the statement, or a write
 *   may have to wait for another table's row or another row's value.
 */
export function buildSharedChange(
  mapping: Mapping,
  { set, merges, expected, guarded }: ChangeShape,
): Statement | undefined {
  const { table } = mapping
  if (!table.isPlain || table.rowSecurity || merges.size > 0 || mayWait(mapping, set)) return undefined
  const slots = new AskedSlots()
  const touched = touchedBy(mapping, set)
  const extra = freshNames(mapping, ['place', 'guard_holds', 'as_expected', 'differs', 'guard', 'written'])
  const { names: newNames, assignments } = setSql(mapping, set)
  const news = set.map((property) => boundValueSql(property, slots))
  const condition = keyConditionSql(mapping.key, 't', slots)
  const guardHolds = guarded ? guardHoldsSql(mapping.guard, 't', slots) : 'true'
  const asExpected = comparableImageSql(expected, 't', slots)
  const current = set.map(({ column }) => asComparable(`t.${column.sql}`, column.type.kind))
  const compared = set.map(({ column }, at) => asComparable(news[at] ?? '', column.type.kind))
  const mayWrite = `hit.${extra.guard_holds} and hit.${extra.as_expected}`
  const rule = brokenRuleSql(
    mapping,
    `done.${extra.written}`,
    ({ column }) => `${touched.some((each) => each.column === column) ? 'done' : 'hit'}.${column.sql}`,
    slots,
  )
  const both = `hit join asked on asked.place = hit.${extra.place} left join done on done.${extra.place} = hit.${extra.place}`
  const book = bookInsertSql({
    mapping,
    slots,
    key: 'hit',
    changed: `done.${extra.written}`,
    before: { alias: 'hit', properties: touched },
    after: { alias: 'done', properties: touched },
    from: both,
    where: `${mayWrite} and (not hit.${extra.differs} or done.${extra.written})`,
  })
  const verdict = verdictSql(
    `hit.${extra.guard_holds}`,
    expected.length > 0 ? `hit.${extra.as_expected}` : 'true',
    `hit.${extra.differs}`,
    `done.${extra.written}`,
  )
  return toStatement(
    `with asked as materialized (
  select * from ${askedSql(slots)}
), hit as (
  select asked.place as ${extra.place}, ${mapping.properties.map(({ column }) => `t.${column.sql}`).join(', ')}${news.map((value, at) => `, ${value} as ${newNames[at]}`).join('')},
    ${guardHolds} as ${extra.guard_holds}, ${asExpected} as ${extra.as_expected},
    pg_catalog.record_image_ne(row(${current.join(', ')}), row(${compared.join(', ')})) as ${extra.differs}, ${guardValueSql(mapping.guard, 't')} as ${extra.guard}
  from asked join ${table.sql} as t on ${condition}
  order by ${mapping.key.map(({ column }) => `t.${column.sql}`).join(', ')}
  for no key update of t skip locked
), done as (
  update ${table.sql} as t
  set ${assignments}
  from hit
  where ${sameKeySql(mapping.key, 't', 'hit')} and ${mayWrite} and hit.${extra.differs}
  returning hit.${extra.place}, ${touched.map(({ column }) => `t.${column.sql}`).join(', ')}, ${guardAfterSql(mapping, 't')} as ${extra.guard}, true as ${extra.written}
)${book}
select hit.${extra.place}, ${outputSql('hit', mapping.properties)},
  ${verdict}, hit.${extra.guard}, done.${extra.guard}, ${verdictOrRaiseSql(true, 'false', rule)},
  ${outputSql('done', touched)}
from ${mapping.rules.length > 0 ? both : `hit left join done on done.${extra.place} = hit.${extra.place}`}`,
    slots,
  )
}
