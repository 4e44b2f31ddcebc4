import { parseJson, printJson, RawJson, type Json, type RowDifference } from '@ledgerman/contract'
import type { Table } from '../../catalogue/table.js'
import type { Queryable } from '../../target/queryable.js'

/** One row: whose, by which key (null where the table has none), and all of it as PostgreSQL's JSON. */
export interface SnapshotRow {
  table: Table
  key: string | null
  json: string
}

/** Every row of some tables at one moment. Rows without a key are told apart by what they hold and how often they are there. */
export type Snapshot = ReadonlyMap<string, SnapshotRow>

/** One row that is in two snapshots differently, or in one only. */
export interface SnapshotDifference {
  table: Table
  before: string | null
  after: string | null
}

/** The query that reads all rows of these tables; empty where there are none. */
export function snapshotSql(tables: readonly Table[]): string {
  return tables
    .map((table, at) => {
      const key = keyColumns(table).map((name) => `t.${columnSql(table, name)}::text`)
      return `select ${at}, ${key.length > 0 ? `array[${key.join(', ')}]::text` : 'null::text'}, row_to_json(t)::text from ${table.sql} as t`
    })
    .join('\nunion all ')
}

export async function takeSnapshot(session: Queryable, tables: readonly Table[], sql: string): Promise<Snapshot> {
  const rows = new Map<string, SnapshotRow>()
  if (tables.length === 0) return rows
  const found = await session.query(sql, [], 'drill_snapshot')
  for (const [at, key = null, json] of found.rows) {
    const table = tables[Number(at)] as Table
    let id = `${table.path}\0${key ?? json}`
    while (rows.has(id)) id += '\0'
    rows.set(id, { table, key, json: json ?? '' })
  }
  return rows
}

export function differences(before: Snapshot, after: Snapshot): SnapshotDifference[] {
  const found: SnapshotDifference[] = []
  for (const [id, { table, json }] of before) {
    const now = after.get(id)?.json ?? null
    if (now !== json) found.push({ table, before: json, after: now })
  }
  for (const [id, { table, json }] of after) if (!before.has(id)) found.push({ table, before: null, after: json })
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
  return json === null ? null : (parseJson(json) as Record<string, Json>)
}

export function isSame(one: Json | undefined, other: Json | undefined): boolean {
  return printJson(one) === printJson(other)
}
