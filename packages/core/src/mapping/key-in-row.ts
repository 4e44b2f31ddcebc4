import type { RecordValues } from '@ledgerman/contract'
import { valuesInRow } from '../catalogue/row-text.js'
import type { Mapping } from './mapping.js'

/** The key of a row of the mapping's table that PostgreSQL tells in a message; undefined where it cannot be told for certain, or not shown. */
export function keyInRow({ key, table }: Mapping, row: string): RecordValues | undefined {
  if (key.length === 0 || key.some(({ sensitive, column }) => sensitive || column.type.element)) return undefined
  const columns = key.map(({ column }) => table.columns.find(({ name }) => name === column.name) ?? column)
  const values = valuesInRow(row, table, columns)
  return values && Object.fromEntries(key.map(({ name }, at) => [name, values[at] ?? null]))
}
