import type { RecordValues } from '@ledgerman/contract'
import { valuesInRow } from './catalogue/row-in-message.js'
import { findPropertyOfColumn, type Mapping, type Property } from './mapping.js'

/** The key of a row of the mapping's table that PostgreSQL tells in a message; undefined where it cannot be told for certain, or not shown. */
export function keyInRow({ key, table }: Mapping, row: string): RecordValues | undefined {
  return shown(key) ? named(key, valuesInRow(row, table.columns, columnsOf(key, table.columns))) : undefined
}

/** The same of columns that another table refers to, told with their values and nothing else. */
export function valuesInKey(mapping: Mapping, told: { columns: string[]; values: string }): RecordValues | undefined {
  const properties = told.columns.flatMap((column) => findPropertyOfColumn(mapping, column) ?? [])
  if (properties.length < told.columns.length || !shown(properties)) return undefined
  const columns = properties.map(({ column }) => column)
  return named(properties, valuesInRow(told.values, columns, columns))
}

function shown(properties: readonly Property[]): boolean {
  return properties.length > 0 && properties.every(({ sensitive, column }) => !sensitive && !column.type.element)
}

function columnsOf(key: readonly Property[], all: Mapping['table']['columns']) {
  return key.map(({ column }) => all.find(({ name }) => name === column.name) ?? column)
}

function named(properties: readonly Property[], values: ReturnType<typeof valuesInRow>): RecordValues | undefined {
  return values && Object.fromEntries(properties.map(({ name }, at) => [name, values[at] ?? null]))
}
