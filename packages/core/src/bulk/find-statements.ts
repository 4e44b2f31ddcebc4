import type { Property } from '../mapping/mapping.js'
import { changesKey, outputSql } from '../statement/keyed-statement.js'
import { SlotList, toStatement, type Statement } from '../statement/statement.js'
import { GIVEN, givenColumn, HIT } from './bulk-shape.js'

import { type FoundRows, orderSql } from './found-rows.js'

/** How many rows are shown of a change of many. */
export const SHOWN_ROWS = 100

/** Finds the rows, locks them in key order, and keeps them with what they will be. */
export function fillHit(rows: FoundRows): Statement {
  const slots = new SlotList()
  return toStatement(fillHitSql(rows, slots), slots)
}

export function fillHitSql(rows: FoundRows, slots: SlotList): string {
  const { mapping, set } = rows.shape
  const lock =
    rows.shape.kind === 'remove' || changesKey(mapping, [...set]) ? 'for update of t' : 'for no key update of t'
  const order =
    mapping.key.length === 0 ? '' : `\n  order by ${mapping.key.map(({ column }) => `t.${column.sql}`).join(', ')}`
  return `insert into ${HIT}\n${rows.found(slots)}${order}\n  ${lock}`
}

/** What was found and what would become of it, counted. */
export function survey(rows: FoundRows, withDigest: boolean): Statement {
  const slots = new SlotList()
  const { mapping, set, touched, checksLeftOut } = rows.shape
  const holds = `hit.${rows.extra.guard_holds}`
  const broken = rows.brokenRule(slots)
  const digested = [...mapping.key, ...touched].map(({ column }) => `hit.${column.sql}`)
  const news = set.map((_, at) => `hit.${rows.set.names[at]}`)
  const digest = withDigest
    ? `pg_catalog.bit_xor(pg_catalog.hashtextextended(row(${[...digested, ...news].join(', ')})::text, 0))`
    : 'null::bigint'
  const long = rows.kept.filter(isLong)
  const bytes =
    long.length === 0
      ? '0'
      : `coalesce(pg_catalog.avg(${long.map(({ column }) => `coalesce(pg_catalog.pg_column_size(hit.${column.sql}), 0)`).join(' + ')}), 0)::bigint`
  const mayBreak = broken === null ? '' : ` and ${broken} is null`
  return toStatement(
    `select pg_catalog.count(*), pg_catalog.count(*) filter (where ${holds} and ${rows.differs}${mayBreak}),
  pg_catalog.count(*) filter (where not ${holds}), ${broken === null ? '0' : `pg_catalog.count(*) filter (where ${holds} and ${rows.differs} and ${broken} is not null)`},
  ${checksLeftOut ? rows.leavesOut(slots) : 'true'}, ${bytes}, ${digest}
from ${rows.hit(slots)}`,
    slots,
  )
}

/** Whether a column's values can be long; numbers and dates are short. */
export function isLong({ column: { type } }: Property): boolean {
  return ['text', 'json', 'jsonb', 'bytea', 'array'].includes(type.kind)
}

/** The first rows that would be written, in key order, of a file in its own: line, key, then touched columns before and after. */
export function sample(rows: FoundRows): Statement {
  const slots = new SlotList()
  const { mapping, given } = rows.shape
  return toStatement(
    `select ${rows.shownSql((property) => `hit.${property.column.sql}`, rows.after)}
from ${rows.hit(slots)}
where ${rows.mayWrite(slots)}
order by ${given ? `hit.${rows.extra.no}` : orderSql(mapping, 'hit')}
limit ${SHOWN_ROWS}`,
    slots,
  )
}

/** Rows that their guard or a rule refuses: line, code, the rule's number, which of what the file cannot change differs, key. */
export function refused(rows: FoundRows, limit: number): Statement {
  const slots = new SlotList()
  const { mapping } = rows.shape
  const holds = `hit.${rows.extra.guard_holds}`
  const broken = rows.brokenRule(slots) ?? 'null::integer'
  return toStatement(
    `select ${rows.line}, case when ${holds} then 'rule-broken' else 'record-changed' end, ${broken}, ${rows.keptDiffers}, ${outputSql('hit', mapping.key) || 'null'}
from ${rows.hit(slots)}${rows.hasKept ? ` join ${GIVEN} as g on g.no = hit.${rows.extra.no}` : ''}
where not ${holds} or (${rows.differs} and ${broken} is not null)
order by ${rows.shape.given ? rows.line : orderSql(mapping, 'hit')}
limit ${limit}`,
    slots,
  )
}

/** How many rows of the file have no record, and how many more than one, where a key may have several. */
export function unfound(rows: FoundRows): Statement {
  const slots = new SlotList()
  const { mapping } = rows.shape
  const count = `(select pg_catalog.count(*) from ${mapping.table.sql} as t where ${rows.sameKey()})`
  return toStatement(
    `select pg_catalog.count(*) filter (where c = 0), pg_catalog.count(*) filter (where c > 1) from (select ${count} as c from ${GIVEN} as g where ${rows.lines(slots)}) as counted`,
    slots,
  )
}

/** Those rows: line, how many records there are, key. */
export function unfoundRows(rows: FoundRows, limit: number): Statement {
  const slots = new SlotList()
  const { mapping, given } = rows.shape
  const keys = given ? mapping.key.map((property) => `g.${givenColumn(given, property)}`) : []
  return toStatement(
    `select line, c, ${keys.map((_, at) => `k${at + 1}`).join(', ')} from (
select g.line, (select pg_catalog.count(*) from ${mapping.table.sql} as t where ${rows.sameKey()}) as c, ${keys.map((sql, at) => `${sql} as k${at + 1}`).join(', ')}
from ${GIVEN} as g where ${rows.lines(slots)}
) as counted where c <> 1 order by line limit ${limit}`,
    slots,
  )
}
