import type { RecordValues } from '@ledgerman/contract'
import { keyInRow } from '../mapping/key-in-row.js'
import type { Mapping } from '../mapping/mapping.js'
import type { DatabaseError } from '../sessions/database-error.js'
import { failingRow } from '../sessions/database-words.js'

/** The key of the row that PostgreSQL says broke a check or may not be null; undefined where it cannot be told for certain. */
export function keyOfFailingRow(error: DatabaseError, mapping: Mapping): RecordValues | undefined {
  const { table } = mapping
  if (error.table !== table.name || error.schema !== table.schema) return undefined
  return keyInRow(mapping, failingRow(error) ?? '')
}
