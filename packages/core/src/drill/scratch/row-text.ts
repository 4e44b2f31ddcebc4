import type { Table } from '../../mapping/catalogue/table.js'
import { equalSql } from '../../values/operator-sql.js'

// Rows travel in PostgreSQL's own text form of a whole row: every type writes and reads it without a loss, which JSON does not promise.

/** A name for a table's rows that none of its columns has: PostgreSQL would take it for the column. */
export function rowAlias({ columns }: Pick<Table, 'columns'>): string {
  const taken = new Set(columns.map(({ name }) => name))
  let alias = 'row_of'
  while (taken.has(alias)) alias += '_'
  return alias
}

/** The SQL of a row as one text. */
export function rowTextSql({ columns }: Pick<Table, 'columns'>, alias: string): string {
  return `row(${columns.map(({ sql }) => `${alias}.${sql}`).join(', ')})::text`
}

/** The SQL of a row as JSON, for showing it and for telling what in it differs. */
export function rowJsonSql(alias: string): string {
  return `pg_catalog.row_to_json(${alias})::text`
}

/** Whether a row of the table has the key of a row that is given as a whole text. */
export function sameRowSql(table: Table, alias: string, key: readonly string[]): string {
  return table.columns
    .filter(({ name }) => key.includes(name))
    .map(({ sql, type, notNull }) => {
      const [own, given] = [`${alias}.${sql}`, `(given.whole::${table.sql}).${sql}`]
      const isEqual = equalSql(own, given, type)
      return notNull ? isEqual : `(${isEqual} or (${own} is null and ${given} is null))`
    })
    .join(' and ')
}

/**
 * The statement that inserts rows: `$1` is an array of their texts, `$2` one of what JSON has in place of some columns, for those that
 * must not be seen as they are. A row whose key is there
 * already stays as it is.
 */
export function insertRowsSql(table: Table, replaced: ReadonlySet<string>, key: readonly string[]): string {
  const columns = table.columns.filter(({ generated }) => !generated)
  const values = columns.map(({ name, sql }) =>
    replaced.has(name)
      ? `(pg_catalog.json_populate_record(null::${table.sql}, given.shown::json)).${sql}`
      : `(given.whole::${table.sql}).${sql}`,
  )
  const own = rowAlias(table)
  const isThere =
    key.length === 0
      ? ''
      : `\n    where not exists (select from ${table.sql} as ${own} where ${sameRowSql(table, own, key)})`
  return `insert into ${table.sql} (${columns.map(({ sql }) => sql).join(', ')}) overriding system value
    select ${values.join(', ')} from rows from (pg_catalog.unnest($1::text[]), pg_catalog.unnest($2::text[])) as given(whole, shown)${isThere}`
}
