import type { MappingDefinition } from '@ledgerman/contract'
import type { Expression } from '../values/expression/expression.js'
import type { Column, Table } from './catalogue/table.js'

export interface Property {
  name: string
  column: Column
  key: boolean
  sensitive: boolean
  /** The type that a json property has in written code; null where none was said. */
  jsonType?: string | null
  /** Why it cannot be set, in words that follow "hoursLeft cannot be set: "; null where it can. */
  lockedBecause: string | null
  /** Why it can be neither set in a new record; null where it can. */
  lockedForAddBecause: string | null
}

export type Guard =
  | { by: 'version'; property: Property; bumpedBy: 'ledgerman' | 'database' }
  | { by: 'rowStamp' }
  | { by: 'values'; of: Property[] }
  | { by: 'none' }

/** What has to be true of every record that is written. */
export interface Rule {
  that: string
  otherwise: string
  expression: Expression
  /** The properties it names, in its order. */
  names: readonly string[]
}

/** A definition that was checked against the live catalogue: every name is resolved. */
export interface Mapping {
  name: string
  revision: number
  definition: MappingDefinition
  table: Table
  properties: Property[]
  byName: ReadonlyMap<string, Property>
  /** In key order; empty where the table has no key. */
  key: Property[]
  guard: Guard
  rules: Rule[]
}

/** The property a column is mapped to, if it is. */
export function findPropertyOfColumn(mapping: Mapping, column: string): Property | undefined {
  return mapping.properties.find((property) => property.column.name === column)
}

/** The values that find one record, by property, in PostgreSQL's text form. */
export type KeyTexts = ReadonlyMap<string, string>
