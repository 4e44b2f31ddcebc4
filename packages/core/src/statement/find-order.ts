import { LedgermanProblem, suggestName } from '@ledgerman/contract'
import type { Mapping } from '../mapping/mapping.js'
import { operatorPlace, operatorSql, type OperatorPlace } from '../values/operator-sql.js'
import { comparedSql, readSql } from '../values/sql-form.js'
import { Astray, type Joins, type Place } from './joins.js'
import type { OrderTerm } from './order.js'
import type { SlotList } from './statement.js'

/** One term of what rows are sorted by. */
export interface SortTerm {
  sql: string
  /** How a value is read, and how a bound one is compared with. */
  read: string
  bound: (placeholder: string) => string
  type: string
  name: string
  sensitive: boolean
  nullable: boolean
  descending: boolean
  nullsFirst: boolean
  operators: OperatorPlace
}

/** What the rows of a find are sorted by, made total. */
export function findOrderSql(mapping: Mapping, terms: readonly OrderTerm[], joins: Joins): string {
  return sortTerms(mapping, terms, joins).map(orderSql).join(', ')
}

/** The terms of an order, and those that make it total. */
export function sortTerms(mapping: Mapping, terms: readonly OrderTerm[], joins: Joins): SortTerm[] {
  const order = terms.map((term) => sortTerm(placeOfPath(joins, term.path, 'order'), term))
  return [...order, ...tieBreak(mapping, order)]
}

/** Whether the rows have nothing to be told apart by, so that only their number in the order says where a page begins. */
export function isPagedByOffset({ key, table }: Mapping): boolean {
  return key.length === 0 && table.kind !== 'table' && table.kind !== 'partitioned table'
}

/** @throws LedgermanProblem request-invalid where the path leads to no property */
export function placeOfPath(joins: Joins, path: readonly string[], where: string): Place {
  const problem = (words: string) =>
    new LedgermanProblem('request-invalid', `${where}: ${words}${/[.?…]$/.test(words) ? '' : '.'}`, {
      where,
      mapping: joins.mapping.name,
      properties: [path.join('.')],
    })
  try {
    const place = joins.find(path)
    if (place) return place
  } catch (error) {
    if (error instanceof Astray) throw problem(error.message)
    throw error
  }
  const name = path.join('.')
  throw problem(`${name} is not a property of ${joins.mapping.name}. ${suggestName(name, joins.names())}`)
}

function sortTerm(
  { sql, property }: Place,
  { descending, nullsFirst }: Pick<OrderTerm, 'descending' | 'nullsFirst'>,
): SortTerm {
  const { column, name, sensitive } = property
  return {
    sql,
    read: readSql(sql, column.type),
    bound: (placeholder) => comparedSql(placeholder, column.type),
    type: column.type.comparable,
    name,
    sensitive,
    // A column that is not null is null all the same where a link leads nowhere.
    nullable: !column.notNull || !sql.startsWith('t.'),
    descending,
    nullsFirst,
    operators: operatorPlace(column.type),
  }
}

/** What makes an order total: the key's properties that are not in it yet, or the row's place where there is no key. */
function tieBreak(mapping: Mapping, order: readonly SortTerm[]): SortTerm[] {
  if (isPagedByOffset(mapping))
    return [
      {
        ...PLACE,
        sql: wholeRow(mapping),
        read: wholeRow(mapping),
        type: 'text',
        bound: (placeholder) => `${placeholder}::text`,
      },
    ]
  // One direction throughout can be compared as one row.
  const descending = order.at(-1)?.descending ?? false
  if (mapping.key.length === 0)
    return [{ ...PLACE, descending }].flatMap((place) =>
      mapping.table.kind === 'partitioned table' ? [{ ...TABLE, descending }, place] : [place],
    )
  const byKey = mapping.key
    .map((property) =>
      sortTerm(
        { alias: 't', mapping, property, sql: `t.${property.column.sql}` },
        { descending, nullsFirst: descending },
      ),
    )
    .filter((term) => !order.some((each) => each.sql === term.sql))
  // What a mapping calls the key of a view need not be one: the whole row tells its rows apart.
  if (mapping.table.kind === 'view')
    return [
      ...byKey,
      {
        ...PLACE,
        sql: wholeRow(mapping),
        read: wholeRow(mapping),
        type: 'text',
        bound: (placeholder) => `${placeholder}::text`,
        descending,
      },
    ]
  // Rows of tables that inherit may have the key of another.
  return mapping.table.hasChildren ? [...byKey, { ...TABLE, descending }, { ...PLACE, descending }] : byKey
}

/** All of a row as one text. The row is built of its columns, since its alias could be the name of one of them. */
function wholeRow({ table }: Mapping): string {
  return `row(${table.columns.map(({ sql }) => `t.${sql}`).join(', ')})::text`
}

const PLACE: SortTerm = {
  sql: 't.ctid',
  read: 't.ctid',
  bound: (placeholder) => `${placeholder}::tid`,
  type: 'tid',
  name: ':place',
  sensitive: false,
  nullable: false,
  descending: false,
  nullsFirst: false,
  operators: null,
}

/** A row's place is one within its partition only. */
const TABLE: SortTerm = {
  ...PLACE,
  sql: 't.tableoid',
  read: 't.tableoid',
  bound: (placeholder) => `${placeholder}::oid`,
  type: 'oid',
  name: ':partition',
}

export function orderSql({ sql, descending, nullsFirst, nullable }: SortTerm): string {
  const nulls = !nullable || nullsFirst === descending ? '' : nullsFirst ? ' nulls first' : ' nulls last'
  return `${sql}${descending ? ' desc' : ''}${nulls}`
}

/**
 * The conditions under which a row comes behind the one whose values are bound, each excluding the others. Terms of one
 * direction that cannot be null are compared as one row, which a single range of an index answers.
 */
export function behind(sort: readonly SortTerm[], isNull: readonly boolean[], slots: SlotList): string[] {
  const value = (term: SortTerm, at: number) =>
    term.bound(
      slots.add({
        name: `:after.${term.name}`,
        type: term.type,
        sensitive: term.sensitive,
        source: { from: 'place', at },
      }),
    )
  const branches: string[] = []
  const same: string[] = []
  let at = 0
  while (at < sort.length) {
    const term = sort[at] as SortTerm
    const run = [term]
    while (
      !term.nullable &&
      term.operators === sort[at + run.length]?.operators &&
      sort[at + run.length]?.nullable === false &&
      sort[at + run.length]?.descending === term.descending
    )
      run.push(sort[at + run.length] as SortTerm)
    const sign = term.descending ? '<' : '>'
    if (run.length > 1) {
      const first = at
      branches.push(
        [
          ...same,
          `(${run.map(({ sql }) => sql).join(', ')}) ${operatorSql(sign, term.operators)} (${run.map((each, step) => value(each, first + step)).join(', ')})`,
        ].join(' and '),
      )
    } else {
      const strict = isNull[at] ? null : `${term.sql} ${operatorSql(sign, term.operators)} ${value(term, at)}`
      if (strict !== null) branches.push([...same, strict].join(' and '))
      if (isNull[at] && term.nullsFirst) branches.push([...same, `${term.sql} is not null`].join(' and '))
      if (!isNull[at] && term.nullable && !term.nullsFirst)
        branches.push([...same, `${term.sql} is null`].join(' and '))
    }
    run.forEach((each, step) =>
      same.push(
        isNull[at + step]
          ? `${each.sql} is null`
          : `${each.sql} ${operatorSql('=', each.operators)} ${value(each, at + step)}`,
      ),
    )
    at += run.length
  }
  return branches.length > 0 ? branches : ['false']
}
