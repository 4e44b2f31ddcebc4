import { LedgermanProblem, suggestName } from '@ledgerman/contract'
import type { OrderTerm } from './order.js'
import type { Links } from '../mapping/links.js'
import type { Mapping, Property } from '../mapping/mapping.js'
import { operatorPlace, operatorSql, type OperatorPlace } from '../values/operator-sql.js'
import { comparedSql, readSql } from '../values/sql-form.js'
import { guardPrefix } from '../mapping/guard-value.js'
import { lineSql, type TextForm } from './text-form.js'
import { guardValueSql } from './guard-sql.js'
import { Aliases, Astray, Joins, type Place } from './joins.js'
import { conditionSql, type NamedExpression } from './record-scope.js'
import { SlotList, toStatement, type Statement } from './statement.js'

/** Which records, what of them, in which order. */
export interface FindShape {
  where: NamedExpression | null
  /** Paths of the properties to give; all own properties where null. */
  properties: readonly (readonly string[])[] | null
  order: readonly OrderTerm[]
  /** Whether the guard of each record is given as well. */
  guarded: boolean
}

/** Where a page begins: at the start, or behind a row of which it is known which of its order's values are null. */
export type PagePlace = 'start' | { isNull: readonly boolean[] } | 'offset'

/** A column of a find's output. */
export interface FoundColumn {
  path: readonly string[]
  mapping: Mapping
  property: Property
}

/**
 * A find, built. Row shape: `columns` in order; for each of `linkPaths` whether a record is there, `t` or `f`; the guard
 * where it was asked for; those values of the order's terms that are not among the columns, for the next page's place.
 */
export interface FindStatement {
  statement: Statement
  columns: FoundColumn[]
  linkPaths: string[][]
  /** Where in a row each value of the order stands; empty where pages go by offset. */
  orderAt: number[]
}

interface SortTerm {
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

/**
 * Builds a find as a page by keyset: the order is made total by the key (or the row's place, where there is none), and a
 * page begins behind the values of the last row of the page before. Each way in which a row can come behind it is a branch
 * of its own, so that an index serves each, and page 10,000 costs what page 1 costs.
 *
 * @throws LedgermanProblem expression-invalid, request-invalid (unknown property in `order` or `properties`)
 */
export function buildFind(mapping: Mapping, shape: FindShape, links: Links, page: PagePlace): FindStatement {
  const slots = new SlotList()
  const joins = new Joins(mapping, 't', links, new Aliases())
  const columns = chooseColumns(mapping, shape.properties, joins)
  const linkPaths = linkPathsOf(columns)
  const order = shape.order.map((term) => sortTerm(placeOfPath(joins, term.path, 'order'), term))
  const sort = [...order, ...tieBreak(mapping, order)]
  const byOffset = isPagedByOffset(mapping)
  const condition = shape.where && conditionSql(shape.where, joins, slots)

  const output = [
    ...columns.map((each) => readSql(each.sql, each.property.column.type)),
    ...linkPaths.map((path) => isThereSql(joins, path)),
    ...(shape.guarded ? [guardValueSql(mapping.guard, 't')] : []),
  ]
  const keyset = byOffset ? [] : sort
  const from = `from ${mapping.table.sql} as t`
  const orderBy = sort.length === 0 ? '' : `\norder by ${sort.map(orderSql).join(', ')}`
  const limit = `${slots.add({ name: ':limit', type: 'integer', sensitive: false, source: { from: 'limit' } })}::integer`
  const branches = typeof page === 'object' ? behind(keyset, page.isNull, slots) : [null]

  const select = (branch: string | null, list: string[]) => {
    const conditions = [condition, branch].filter((each) => each !== null)
    const where = conditions.length > 0 ? `\nwhere ${conditions.join('\n  and ')}` : ''
    return `select ${list.join(', ')}\n${from}${joins.sql}${where}${orderBy}\nlimit ${limit}`
  }
  const reads = [...output, ...keyset.map(({ read }) => read).filter((read) => !output.includes(read))]
  const orderAt = keyset.map(({ read }) => reads.indexOf(read))
  const result = { columns: columns.map(({ sql: _, ...column }) => column), linkPaths, orderAt }
  if (branches.length === 1) {
    const offset =
      page === 'offset'
        ? `\noffset ${slots.add({ name: ':offset', type: 'bigint', sensitive: false, source: { from: 'offset' } })}::bigint`
        : ''
    return { statement: toStatement(select(branches[0] ?? null, reads) + offset, slots), ...result }
  }
  return { statement: toStatement(union(), slots), ...result }

  function union(): string {
    const named = [...reads.map((sql, at) => `${sql} as c${at}`), ...keyset.map(({ sql }, at) => `${sql} as o${at}`)]
    const parts = branches.map((branch) => `(${select(branch, named)})`)
    const outer = keyset.map((term, at) => orderSql({ ...term, sql: `o${at}` })).join(', ')
    return `select ${reads.map((_, at) => `c${at}`).join(', ')}\nfrom (${parts.join('\nunion all\n')}) as page\norder by ${outer}\nlimit ${limit}`
  }
}

/** How an export is built: as the declaration of a cursor `found`. */
export interface ExportStatement extends FindStatement {
  /** Whether a row is one column, the record's line in the form asked for; elsewhere it is as `buildFind` has it, without the order's values. */
  isText: boolean
  /** What the guard's column is called, which stands last; null where there is none. */
  guardName: string | null
}

/** Builds a find of all records, as lines where the server can write those itself. */
export function buildExport(mapping: Mapping, shape: FindShape, links: Links, form: TextForm): ExportStatement {
  const slots = new SlotList()
  const joins = new Joins(mapping, 't', links, new Aliases())
  const columns = chooseColumns(mapping, shape.properties, joins)
  const linkPaths = linkPathsOf(columns)
  const sort = shape.order.map((term) => sortTerm(placeOfPath(joins, term.path, 'order'), term))
  const condition = shape.where && conditionSql(shape.where, joins, slots)
  const guardName = shape.guarded ? freeName(mapping) : null
  const guardSql = guardName === null ? null : `'${guardPrefix(mapping)}' || ${guardValueSql(mapping.guard, 't')}`
  const guard = guardName === null || guardSql === null ? null : { name: guardName, sql: guardSql }
  // What comes over a link is an object of its own in JSON.
  const isFlat = form === 'csv' || linkPaths.length === 0
  const line = isFlat
    ? lineSql(
        form,
        columns.map(({ path, property, sql }) => ({ name: path.join('.'), property, sql })),
        guard,
      )
    : null
  const output = [
    ...columns.map((each) => readSql(each.sql, each.property.column.type)),
    ...linkPaths.map((path) => isThereSql(joins, path)),
    ...(guardSql === null ? [] : [guardSql]),
  ]
  const orderBy = [...sort, ...tieBreak(mapping, sort)].map(orderSql).join(', ')
  const where = condition === null ? '' : `\nwhere ${condition}`
  const text = `declare found no scroll cursor for select ${line ?? output.join(', ')}\nfrom ${mapping.table.sql} as t${joins.sql}${where}\norder by ${orderBy}`
  return {
    statement: toStatement(text, slots),
    columns: columns.map(({ sql: _, ...column }) => column),
    linkPaths,
    orderAt: [],
    isText: line !== null,
    guardName,
  }
}

/** What the guard's column is called: no property has that name. */
function freeName({ byName }: Mapping): string {
  let name = 'guard'
  while (byName.has(name)) name += '_'
  return name
}

/** Builds the count of the rows a condition finds; one row, one column. */
export function buildCount(mapping: Mapping, where: NamedExpression | null, links: Links): Statement {
  const slots = new SlotList()
  return toStatement(`select count(*)\n${foundRowsSql(mapping, where, links, slots)}`, slots)
}

/** Builds the rows a condition finds and nothing of them, for the planner to estimate their number. */
export function buildEstimate(mapping: Mapping, where: NamedExpression | null, links: Links): Statement {
  const slots = new SlotList()
  return toStatement(`select\n${foundRowsSql(mapping, where, links, slots)}`, slots)
}

/** Whether the rows have nothing to be told apart by, so that only their number in the order says where a page begins. */
export function isPagedByOffset({ key, table }: Mapping): boolean {
  return key.length === 0 && table.kind !== 'table' && table.kind !== 'partitioned table'
}

function foundRowsSql(mapping: Mapping, where: NamedExpression | null, links: Links, slots: SlotList): string {
  const joins = new Joins(mapping, 't', links, new Aliases())
  const condition = where && conditionSql(where, joins, slots)
  return `from ${mapping.table.sql} as t${joins.sql}${condition === null ? '' : `\nwhere ${condition}`}`
}

function chooseColumns(
  mapping: Mapping,
  paths: FindShape['properties'],
  joins: Joins,
): (FoundColumn & { sql: string })[] {
  if (paths === null)
    return mapping.properties.map((property) => ({
      path: [property.name],
      mapping,
      property,
      sql: `t.${property.column.sql}`,
    }))
  return paths.map((path) => {
    const { mapping: at, property, sql } = placeOfPath(joins, path, 'properties')
    return { path, mapping: at, property, sql }
  })
}

function placeOfPath(joins: Joins, path: readonly string[], where: string): Place {
  const problem = (words: string) =>
    new LedgermanProblem('request-invalid', `${where}: ${words}.`.replace(/\?\.$/, '?'), {
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

/** Every link on the way to a column, the shorter ones first. */
function linkPathsOf(columns: readonly FoundColumn[]): string[][] {
  const paths = new Map<string, string[]>()
  for (const { path } of columns)
    for (let length = 1; length < path.length; length++) {
      const part = path.slice(0, length)
      paths.set(part.join('.'), part)
    }
  return [...paths.values()].sort((one, other) => one.length - other.length)
}

function isThereSql(joins: Joins, path: readonly string[]): string {
  const { alias, link } = joins.aliasOf(path)
  return `${alias}.${link.pairs[0]?.other.column.sql} is not null`
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

function orderSql({ sql, descending, nullsFirst, nullable }: SortTerm): string {
  const nulls = !nullable || nullsFirst === descending ? '' : nullsFirst ? ' nulls first' : ' nulls last'
  return `${sql}${descending ? ' desc' : ''}${nulls}`
}

/**
 * The conditions under which a row comes behind the one whose values are bound, each excluding the others. Terms of one
 * direction that cannot be null are compared as one row, which a single range of an index answers.
 */
function behind(sort: readonly SortTerm[], isNull: readonly boolean[], slots: SlotList): string[] {
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
