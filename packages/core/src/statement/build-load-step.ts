import { extraNames, foundSql, indented } from './found-sql.js'
import { findOrderSql } from './find-order.js'
import { guardValueSql } from './guard-sql.js'
import { Aliases, Joins } from './joins.js'
import { keyColumns, outputSql } from './keyed-statement.js'
import { isUnique } from './key-sql.js'
import type { Links } from '../mapping/links.js'
import type { Mapping } from '../mapping/mapping.js'
import type { OrderTerm } from './order.js'
import { equalSql } from '../values/operator-sql.js'
import { readSql } from '../values/sql-form.js'
import { conditionSql, valueSql, type NamedExpression, type Surroundings } from './record-scope.js'
import { plainBind, shortLoadText, toShortForm } from './short-form.js'
import { markPlace, SlotList, toStatement, type Statement } from './statement.js'

/** How a step finds its rows: by key, each property an expression, or by a condition. */
export type Finder =
  { key: readonly { property: string; expression: NamedExpression }[] } | { where: NamedExpression | null }

export type RowLock = 'none' | 'share' | 'change'

/** The rows that a load takes of those it finds: so many, the first in an order. */
export interface FirstRows {
  order: readonly OrderTerm[]
  limit: number
}

export interface LoadShape {
  finder: Finder
  /** Null where it takes all. */
  first: FirstRows | null
  lock: RowLock
  skipLocked: boolean
}

/** Whether a finder can find no more than one row, whatever stands in the table. */
export function findsOneAtMost(mapping: Mapping, finder: Finder): boolean {
  if (!('key' in finder)) return false
  return isUnique(
    mapping,
    finder.key.flatMap(({ property }) => mapping.byName.get(property) ?? []),
  )
}

/** Whether a finder names the keys of all rows that it may find, in a list no longer than a program keeps. */
function namesItsRows(mapping: Mapping, finder: Finder): boolean {
  if ('key' in finder || finder.where?.expression.kind !== 'in') return false
  const { operand, items, negated } = finder.where.expression
  const property = operand.kind === 'path' && operand.names.length === 1 && mapping.byName.get(operand.names[0] ?? '')
  const isListed = items.length <= MOST_LISTED && items.every(({ kind }) => kind === 'parameter' || kind === 'literal')
  return !negated && isListed && !!property && isUnique(mapping, [property])
}

const MOST_LISTED = 100

/**
 * Builds the load of a transaction's step. Row shape: every property in order; the guard; how many rows were found in all;
 * a digest of them all, where there can be more than one. Rows are locked in key order, so that two runs that lock the same ones wait for each other and no
 * more; where only the first are taken, in the order that says which those are. At most `:limit` rows are given, however many were found and locked.
 */
export function buildLoadStep(
  mapping: Mapping,
  { finder, first, lock, skipLocked }: LoadShape,
  links: Links,
  surroundings: (slots: SlotList) => Surroundings,
  /** Whether it is for written code, which has no use for a digest, and counts one row by itself. */
  isForCode = false,
): Statement {
  const slots = new SlotList()
  const joins = new Joins(mapping, 't', links, new Aliases())
  const condition = finderSql(mapping, finder, joins, slots, surroundings(slots))
  const isOne = findsOneAtMost(mapping, finder)
  const order = isOne || mapping.key.length === 0 ? '' : `order by ${keyColumns(mapping, 't')}`
  const taken = first
    ? [`order by ${findOrderSql(mapping, first.order, joins)}`, `limit ${first.limit}`]
    : [order].filter((line) => line !== '')
  const rowLock =
    lock === 'none' ? '' : `for ${lock === 'share' ? 'share' : 'no key update'} of t${skipLocked ? ' skip locked' : ''}`
  const rows = {
    mapping,
    from: `${mapping.table.sql} as t${joins.sql}`,
    condition,
    end: [...taken, ...(rowLock === '' ? [] : [rowLock])],
    columns: mapping.properties,
    guard: guardValueSql(mapping.guard, 't'),
  }
  const short = () => {
    const own = new SlotList()
    const ownJoins = new Joins(mapping, 't', links, new Aliases())
    const text = shortLoadText(
      mapping,
      finderSql(mapping, finder, ownJoins, own, surroundings(own), true),
      ownJoins.sql,
      rows.end.map((line) => `\n${line}`).join(''),
    )
    return toShortForm(text, own, slots, [
      !isOne && !first && 'Counts all rows it finds, and gives the first of them.',
      first !== null && skipLocked && 'Leaves out rows that others hold: the first that nobody holds are taken.',
    ])
  }
  if (isOne) {
    const one = `select ${outputSql('t', mapping.properties)}, ${rows.guard}${isForCode ? '' : ', 1, null::bigint'}`
    return toStatement([one, `from ${rows.from}`, `where ${condition}`, ...rows.end].join('\n'), slots, short)
  }
  if (isForCode && (first ? first.limit <= MOST_LISTED : namesItsRows(mapping, finder))) {
    const listed = `select ${outputSql('t', mapping.properties)}, ${rows.guard}`
    return toStatement([listed, `from ${rows.from}`, `where ${condition}`, ...rows.end].join('\n'), slots, short)
  }
  const limit = slots.add({ name: ':limit', type: 'integer', sensitive: false, source: { from: 'limit' } })
  const row = `row(${mapping.properties.map(({ column }) => `hit.${column.sql}`).join(', ')})`
  const digest = isForCode ? '' : `, ${rowsDigestSql(row, 'where' in finder)}`
  return toStatement(
    `with hit as (
  ${indented(foundSql(rows), 2)}
)
select ${outputSql('hit', mapping.properties)}, hit.${extraNames(mapping).guard}, count(*) over ()${digest}
from hit
limit ${limit}::integer`,
    slots,
    short,
  )
}

/** Builds the keys of all rows that a finder finds, locked by others or not: what `skip locked` left out is told from them. */
export function buildFoundKeys(
  mapping: Mapping,
  finder: Finder,
  links: Links,
  surroundings: (slots: SlotList) => Surroundings,
): Statement {
  const slots = new SlotList()
  const joins = new Joins(mapping, 't', links, new Aliases())
  const condition = finderSql(mapping, finder, joins, slots, surroundings(slots))
  const limit = slots.add({ name: ':limit', type: 'integer', sensitive: false, source: { from: 'limit' } })
  const keys = mapping.key.map(({ column }) => readSql(`t.${column.sql}`, column.type)).join(', ')
  return toStatement(
    `select ${keys}\nfrom ${mapping.table.sql} as t${joins.sql}\nwhere ${condition}\nlimit ${limit}::integer`,
    slots,
  )
}

/** The condition of a finder over the row under `t`. */
export function finderSql(
  mapping: Mapping,
  finder: Finder,
  joins: Joins,
  slots: SlotList,
  surroundings: Surroundings,
  /** Whether it is for a short form, which is shown and not run. */
  isShort = false,
): string {
  if ('where' in finder) return finder.where === null ? 'true' : conditionSql(finder.where, joins, slots, surroundings)
  return finder.key
    .map(({ property, expression }) => {
      const { column, sensitive } = mapping.byName.get(property) as NonNullable<ReturnType<typeof mapping.byName.get>>
      const wanted = { sql: column.type.comparable, column: column.type, sensitive }
      const value = valueSql(expression, null, slots, surroundings, wanted)
      const shown = isShort && column.type.kind !== 'money' ? plainBind(value, column.type.comparable) : value
      // What does not compare with the column is told in the value's place.
      const place = markPlace(slots.expression(expression.label, expression.source), expression.expression.at)
      return place + equalSql(`t.${column.sql}`, shown, column.type)
    })
    .join(' and ')
}

/** A digest of all rows that does not depend on their order; needed where more may be found than are looked at one by one. */
export function rowsDigestSql(row: string, isNeeded: boolean): string {
  if (!isNeeded) return 'null::bigint'
  return `pg_catalog.bit_xor(pg_catalog.hashtextextended(${row}::text, 0)) over ()`
}
