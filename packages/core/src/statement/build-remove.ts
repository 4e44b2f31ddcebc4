import type { Mapping, Property } from '../mapping/mapping.js'
import { bookInsertSql } from './book-sql.js'
import { guardHoldsSql, guardValueSql } from './guard-sql.js'
import { comparableImageSql } from './image-sql.js'
import { keyConditionSql, sameKeySql } from './key-sql.js'
import {
  actorSql,
  freshNames,
  mayWriteSql,
  outputSql,
  verdictOrRaiseSql,
  verdictSql,
  type KeyedStatement,
} from './keyed-statement.js'
import { aroundWrite, shortKeySql, shortWriteText, toShortForm } from './short-form.js'
import { SlotList, toStatement, type Statement } from './statement.js'

export interface RemoveShape {
  /** Properties that have to have the bound values, or nothing is removed. */
  expected: readonly Property[]
  guarded: boolean
}

/** Builds the removal of one record: locked, judged, deleted and booked like a change (see `build-change.ts`). */
export function buildRemove(mapping: Mapping, shape: RemoveShape, isBooked: boolean): KeyedStatement {
  const step = removeStatement(mapping, shape, false)
  return {
    kind: 'remove',
    step,
    run: isBooked ? removeStatement(mapping, shape, true) : step,
    set: [],
    touched: mapping.properties,
  }
}

function removeStatement(mapping: Mapping, { expected, guarded }: RemoveShape, isBooked: boolean): Statement {
  const slots = new SlotList()
  const extra = freshNames(mapping, ['actor', 'guard_holds', 'as_expected', 'guard', 'written'])
  const keyJoin = sameKeySql(mapping.key, 't', 'hit')
  const mayWrite = mayWriteSql(mapping, `hit.${extra.guard_holds}`, `hit.${extra.as_expected}`)
  const condition = keyConditionSql(mapping.key, 't', slots)
  const hit = `with hit as (
  select ${mapping.properties.map(({ column }) => `t.${column.sql}`).join(', ')},
    ${guarded ? guardHoldsSql(mapping.guard, 't', slots) : 'true'} as ${extra.guard_holds},
    ${comparableImageSql(expected, 't', slots)} as ${extra.as_expected},
    ${guardValueSql(mapping.guard, 't')} as ${extra.guard},
    ${actorSql(slots)} as ${extra.actor}
  from ${mapping.table.sql} as t
  where ${condition}
  for update
), done as (
  delete from ${mapping.table.sql} as t
  using hit
  where ${keyJoin} and ${mayWrite}
  returning true as ${extra.written}
)`
  const book = isBooked
    ? bookInsertSql({
        mapping,
        slots,
        key: 'hit',
        changed: `done.${extra.written}`,
        before: { alias: 'hit', properties: mapping.properties },
        after: null,
        from: 'hit left join done on true',
        where: `done.${extra.written}`,
      })
    : ''
  const verdict = verdictSql(`hit.${extra.guard_holds}`, `hit.${extra.as_expected}`, 'true', `done.${extra.written}`)
  const rule = verdictOrRaiseSql(isBooked, `${mayWrite} and done.${extra.written} is null`, 'null::integer')
  return toStatement(
    `${hit}${book}
select ${outputSql('hit', mapping.properties)},
  ${verdict}, hit.${extra.guard}, null::text, ${rule}
from hit left join done on true`,
    slots,
    () => {
      const own = new SlotList()
      const condition = shortKeySql(mapping.key, own)
      const checks = { isOne: true, isGuarded: guarded, expected, differs: false, isRemove: true }
      const text = shortWriteText({ mapping, isRemove: true, set: [], news: [], condition, joins: '' })
      return toShortForm(text, own, slots, aroundWrite(mapping, checks))
    },
  )
}
