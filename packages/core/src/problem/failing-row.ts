import type { RecordValues } from '@ledgerman/contract'
import { findPropertyOfColumn, type Mapping } from '../mapping/mapping.js'
import type { DatabaseError } from '../sessions/database-error.js'
import { failingRow } from '../sessions/database-words.js'

/** PostgreSQL cuts values in this message off behind so many bytes (`ExecBuildSlotValueDescription`). */
const CUT_OFF = '...'

/**
 * The key of the row that PostgreSQL says broke a check or may not be null: `Failing row contains (7, P-107, …)`. Values stand there as
 * text in the table's order, with nothing that tells a comma of a value from one between values, so the list is only believed where it
 * has as many parts as the table has columns. Undefined where the key cannot be told for certain.
 */
export function keyOfFailingRow(error: DatabaseError, mapping: Mapping): RecordValues | undefined {
  const { table, key } = mapping
  if (error.table !== table.name || error.schema !== table.schema || key.length === 0) return undefined
  const values = failingRow(error)?.split(', ') ?? []
  if (values.length !== table.columns.length) return undefined
  const found = table.columns.flatMap(({ name }, at) => {
    const property = findPropertyOfColumn(mapping, name)
    return property && key.includes(property) ? [[property, values[at] ?? ''] as const] : []
  })
  if (found.length < key.length || found.some(([{ sensitive }, value]) => sensitive || value.endsWith(CUT_OFF)))
    return undefined
  return Object.fromEntries(found.map(([{ name }, value]) => [name, value]))
}
