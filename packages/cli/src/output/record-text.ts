import colors from 'picocolors'
import type { LoadedRecord, RecordValues } from '@ledgerman/contract'
import { formatTable, formatValue, isNumeric } from './table.js'

/** One record, a line a property, and its guard. */
export function formatRecord({ record, guard }: LoadedRecord, width: number, paths = Object.keys(record)): string {
  const longest = Math.max(40, width - Math.max(0, ...paths.map((path) => path.length)) - 2)
  const rows = paths.map((path) => [path, formatValue(valueAt(record, path), longest)])
  return `${formatTable(['property', 'value'], rows)}\n\n${colors.dim('guard')}  ${guard ?? 'none'}`
}

/** Records as a table, a column a path. */
export function formatRecords(records: readonly RecordValues[], paths = Object.keys(records[0] ?? {})): string {
  const right = paths.filter((path) => isNumeric(records.map((record) => valueAt(record, path))))
  const rows = records.map((record) => paths.map((path) => formatValue(valueAt(record, path), 32)))
  return formatTable(paths, rows, right)
}

/** The value a path leads to; null where a link on the way leads to no record. */
function valueAt(record: RecordValues, path: string): unknown {
  let value: unknown = record
  for (const name of path.split('.')) value = value === null ? null : (value as RecordValues)[name]
  return value
}
