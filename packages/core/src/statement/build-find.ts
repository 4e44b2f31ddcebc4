import type { ValueType } from '../values/value-type.js'
import type { OrderTerm } from './order.js'
import type { Links } from '../mapping/links.js'
import type { Mapping, Property } from '../mapping/mapping.js'
import { readSql } from '../values/sql-form.js'
import { guardPrefix } from '../mapping/guard-value.js'
import { lineSql, type TextForm } from './text-form.js'
import { guardValueSql } from './guard-sql.js'
import { behind, findOrderSql, isPagedByOffset, orderSql, placeOfPath, sortTerms } from './find-order.js'
import { Aliases, Joins } from './joins.js'
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
  /** The types of the parameters, where they are declared; undefined where any may be named. */
  parameters?: ReadonlyMap<string, ValueType | undefined> | undefined
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
  const sort = sortTerms(mapping, shape.order, joins)
  const byOffset = isPagedByOffset(mapping)
  const condition = shape.where && conditionSql(shape.where, joins, slots, { parameters: shape.parameters })

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
  const condition = shape.where && conditionSql(shape.where, joins, slots, { parameters: shape.parameters })
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
  const orderBy = findOrderSql(mapping, shape.order, joins)
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
export function buildCount(mapping: Mapping, shape: Pick<FindShape, 'where' | 'parameters'>, links: Links): Statement {
  const slots = new SlotList()
  return toStatement(`select count(*)\n${foundRowsSql(mapping, shape, links, slots)}`, slots)
}

/** Builds the rows a condition finds and nothing of them, for the planner to estimate their number. */
export function buildEstimate(
  mapping: Mapping,
  shape: Pick<FindShape, 'where' | 'parameters'>,
  links: Links,
): Statement {
  const slots = new SlotList()
  return toStatement(`select\n${foundRowsSql(mapping, shape, links, slots)}`, slots)
}

function foundRowsSql(
  mapping: Mapping,
  { where, parameters }: Pick<FindShape, 'where' | 'parameters'>,
  links: Links,
  slots: SlotList,
): string {
  const joins = new Joins(mapping, 't', links, new Aliases())
  const condition = where && conditionSql(where, joins, slots, { parameters })
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
