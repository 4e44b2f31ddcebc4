import type { ColumnType } from './column-type.js'

/** The type of a part of an expression, as far as it is known without asking the database. */
export interface ValueType {
  /** As a cast names it. */
  sql: string
  /** The column it comes from, where it is a property: its JSON form applies to what is compared with it. */
  column: ColumnType | null
  /** Whether what is compared with it must not be shown either. */
  sensitive: boolean
}

/** A type that no column is behind, as a cast names it. */
export function plainType(sql: string): ValueType {
  return { sql, column: null, sensitive: false }
}
