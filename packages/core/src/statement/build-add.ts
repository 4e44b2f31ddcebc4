import type { Mapping, Property } from '../mapping/mapping.js'
import { bookInsertSql } from './book-sql.js'
import {
  actorSql,
  boundValueSql,
  brokenRuleSql,
  outputSql,
  verdictOrRaiseSql,
  verdictSql,
  type KeyedStatement,
} from './keyed-statement.js'
import { insertSql } from './insert-sql.js'
import { aroundAdd, shortAddText, toShortForm } from './short-form.js'
import { SlotList, toStatement, type Statement } from './statement.js'
import { extraNames } from './found-sql.js'

/**
 * Builds the addition of one record. Columns that are not named get their defaults. The actor is set in a part that the
 * inserted values are read from, so before the row is written.
 */
export function buildAdd(mapping: Mapping, set: readonly Property[], isBooked: boolean): KeyedStatement {
  const step = addStatement(mapping, set, false)
  return {
    kind: 'add',
    step,
    run: isBooked ? addStatement(mapping, set, true) : step,
    set: [...set],
    touched: mapping.properties,
  }
}

function addStatement(mapping: Mapping, set: readonly Property[], isBooked: boolean): Statement {
  const slots = new SlotList()
  const extra = extraNames(mapping)
  const values = set.map((property) => boundValueSql(property, slots)).join(', ')
  const actor = actorSql(slots)
  const insert = `with who as materialized (
  select ${actor} as ${extra.actor}
), done as (
  ${insertSql(mapping, { set, values: `select ${values} from who where who.${extra.actor} is not null` })}
)`
  const brokenRule = brokenRuleSql(mapping, `done.${extra.written}`, ({ column }) => `done.${column.sql}`, slots)
  const book = isBooked
    ? bookInsertSql({
        mapping,
        slots,
        key: 'done',
        changed: `done.${extra.written}`,
        before: null,
        after: { alias: 'done', properties: mapping.properties },
        from: 'done',
        where: 'true',
      })
    : ''
  const verdict = verdictSql('true', 'true', 'true', `done.${extra.written}`)
  const rule = verdictOrRaiseSql(isBooked, `done.${extra.written} is null`, brokenRule)
  return toStatement(
    `${insert}${book}
select ${verdict}, null::text, done.${extra.guard}, ${rule},
  ${outputSql('done', mapping.properties)}
from who left join done on true`,
    slots,
    () => {
      const own = new SlotList()
      const text = shortAddText(
        mapping,
        set,
        set.map((property) => boundValueSql(property, own)),
      )
      return toShortForm(text, own, slots, aroundAdd(mapping))
    },
  )
}
