import { parsePrinted, printJson, RawJson, type Json, type RowDifference } from '@ledgerman/contract'
import type { Table } from '../../mapping/catalogue/table.js'
import { rowAlias, rowJsonSql, rowTextSql } from './row-text.js'
import type { Queryable } from '../../sessions/queryable.js'
import { toTextArray } from '../../sessions/text-array.js'

/** One row: whose, by which key (null where the table has none), and all of it as PostgreSQL's JSON. */
export interface SnapshotRow {
  table: Table
  key: string | null
  json: string
  /** The same in PostgreSQL's own text form, for putting it back. */
  text: string
}

/** Every row of some tables at one moment. Rows without a key are told apart by what they hold and how often they are there. */
export type Snapshot = ReadonlyMap<string, SnapshotRow>

/** One row that is in two snapshots differently, or in one only. */
export interface SnapshotDifference {
  table: Table
  before: string | null
  after: string | null
  /** Both in PostgreSQL's own text form. */
  beforeText: string | null
  afterText: string | null
}

/** Up to so many tables are read without asking first which of them have rows. */
const FEW_TABLES = 50

/** Takes snapshots of some tables. */
export class SnapshotReader {
  /** What is prepared, by the tables that it reads. */
  readonly #statements = new Map<string, { name: string; sql: string }>()

  constructor(readonly tables: readonly Table[]) {}

  /** All rows as a session sees them. */
  async take(session: Queryable): Promise<Snapshot> {
    const rows = new Map<string, SnapshotRow>()
    const filled = await this.#filled(session)
    if (filled.length === 0) return rows
    const { name, sql } = this.#statementOf(filled)
    const found = await session.query(sql, [], name)
    for (const [at, key = null, json, text] of found.rows) {
      const table = this.tables[Number(at)] as Table
      let id = `${table.path}\0${key ?? json}`
      while (rows.has(id)) id += '\0'
      rows.set(id, { table, key, json: json ?? '', text: text ?? '' })
    }
    return rows
  }

  /** The places of those that may have rows: of a schema with a thousand tables a drill fills a few, and one statement over all takes seconds to plan. */
  async #filled(session: Queryable): Promise<number[]> {
    if (this.tables.length <= FEW_TABLES) return this.tables.map((_, at) => at)
    const { rows } = await session.query(FILLED_SQL, [toTextArray(this.tables.map(({ sql }) => sql))], 'drill_filled')
    return rows.map(([at]) => Number(at))
  }

  #statementOf(places: readonly number[]) {
    const key = places.join()
    let statement = this.#statements.get(key)
    if (!statement) {
      const sql = places.map((at) => this.#selectSql(at)).join('\nunion all ')
      this.#statements.set(key, (statement = { name: `drill_snapshot_${this.#statements.size}`, sql }))
    }
    return statement
  }

  #selectSql(at: number): string {
    const table = this.tables[at] as Table
    const alias = rowAlias(table)
    const key = keyColumns(table).map((name) => `${alias}.${columnSql(table, name)}::text`)
    // Of a table with inheritance children only its own rows: theirs are read with their own tables.
    const from = table.hasChildren ? `only ${table.sql}` : table.sql
    return `select ${at}, ${key.length > 0 ? `array[${key.join(', ')}]::text` : 'null::text'}, ${rowJsonSql(alias)}, ${rowTextSql(table, alias)} from ${from} as ${alias}`
  }
}

/** A row makes the table's file grow before it is committed. A partitioned table has its rows in its partitions. */
const FILLED_SQL = `
select t.number - 1
from (select name::pg_catalog.regclass as rel, number from pg_catalog.unnest($1::text[]) with ordinality as given(name, number)) as t
where pg_catalog.pg_relation_size(t.rel) > 0
  or exists (select from pg_catalog.pg_partition_tree(t.rel) as p where pg_catalog.pg_relation_size(p.relid) > 0)
order by t.number`

export function differences(before: Snapshot, after: Snapshot): SnapshotDifference[] {
  const found: SnapshotDifference[] = []
  for (const [id, { table, json, text }] of before) {
    const now = after.get(id)
    if (now?.text !== text)
      found.push({ table, before: json, after: now?.json ?? null, beforeText: text, afterText: now?.text ?? null })
  }
  for (const [id, { table, json, text }] of after)
    if (!before.has(id)) found.push({ table, before: null, after: json, beforeText: null, afterText: text })
  return found
}

/** A difference for people: the key, and only the columns that differ. */
export function toRowDifference({ table, before, after }: SnapshotDifference): RowDifference {
  const [old, now] = [readRow(before), readRow(after)]
  const whole = old ?? now ?? {}
  const names = Object.keys(whole).filter((name) => !old || !now || !isSame(old[name], now[name]))
  const pick = (row: Record<string, Json> | null, of: readonly string[]) =>
    row && Object.fromEntries(of.map((name) => [name, exactly(row[name] ?? null, table, name)]))
  return {
    table: table.path,
    key: pick(whole, keyColumns(table)) ?? {},
    before: pick(old, names),
    after: pick(now, names),
  }
}

/** Numbers that a double cannot hold are text, as everywhere. */
function exactly(value: Json, table: Table, column: string): Json {
  const isExact = /^(?:numeric|bigint)/.test(table.columns.find(({ name }) => name === column)?.type.comparable ?? '')
  return isExact && (typeof value === 'number' || value instanceof RawJson) ? printJson(value) : value
}

export function keyColumns({ keys }: Table): readonly string[] {
  return (keys.find(({ primary }) => primary) ?? keys[0])?.columns ?? []
}

export function columnSql(table: Table, name: string): string {
  return table.columns.find((column) => column.name === name)?.sql ?? name
}

export function readRow(json: string | null): Record<string, Json> | null {
  return json === null ? null : (parsePrinted(json) as Record<string, Json>)
}

export function isSame(one: Json | undefined, other: Json | undefined): boolean {
  return printJson(one) === printJson(other)
}
