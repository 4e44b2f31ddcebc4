import type { LinkDefinition, MappingDefinition } from '@ledgerman/contract'
import type { Table } from '../catalogue/table.js'
import { parseTablePath } from '../catalogue/table-path.js'
import { toPropertyName, uniqueName } from './property-name.js'

export interface DerivedDefinition {
  definition: MappingDefinition
  /** What a person should look at before publishing it. */
  notes: string[]
}

/**
 * Derives a mapping from a table: camelCase names, the primary key (else the first unique not-null key), foreign keys as
 * links, guard `rowStamp`. A column that looks like a version is suggested in the notes, never assumed.
 *
 * @param mappingOfTable names the mapping of a table at the other end of a foreign key: the published one, where there is one.
 */
export function deriveMapping(table: Table, mappingOfTable: (path: string) => string | undefined): DerivedDefinition {
  const nameOf = new Map<string, string>()
  for (const column of table.columns) nameOf.set(column.name, uniqueName(toPropertyName(column.name), nameOf.values()))
  const key = table.keys[0]?.columns ?? []
  const definition: MappingDefinition = {
    mapping: toPropertyName(table.name),
    table: table.path,
    key: key.map((column) => nameOf.get(column) ?? column),
    guard: isStampable(table) ? { by: 'rowStamp' } : { by: 'values' },
    properties: Object.fromEntries(
      table.columns.map((column) => [
        nameOf.get(column.name) ?? column.name,
        {
          column: column.name,
          ...(key.includes(column.name) || column.generated || column.identity ? { fixed: true } : {}),
        },
      ]),
    ),
  }
  const links = deriveLinks(table, nameOf, mappingOfTable)
  if (Object.keys(links).length > 0) definition.links = links
  return { definition, notes: notesFor(table, nameOf) }
}

function isStampable(table: Table): boolean {
  return table.kind === 'table' || table.kind === 'partitioned table'
}

function deriveLinks(
  table: Table,
  nameOf: ReadonlyMap<string, string>,
  mappingOfTable: (path: string) => string | undefined,
): Record<string, LinkDefinition> {
  const links: Record<string, LinkDefinition> = {}
  const taken = () => [...nameOf.values(), ...Object.keys(links)]
  const otherMapping = (path: string) => mappingOfTable(path) ?? toPropertyName(parseTablePath(path).name)
  for (const { columns, table: other, otherColumns } of table.references) {
    const first =
      columns.length === 1 ? (columns[0] ?? '').replace(/_(id|code|no|key)$/i, '') : parseTablePath(other).name
    const on = Object.fromEntries(
      columns.map((column, at) => [nameOf.get(column) ?? column, toPropertyName(otherColumns[at] ?? '')]),
    )
    links[uniqueName(toPropertyName(first), taken())] = { mapping: otherMapping(other), on }
  }
  for (const { columns, table: other, otherColumns } of table.referencedBy) {
    const many = Object.fromEntries(
      columns.map((column, at) => [nameOf.get(column) ?? column, toPropertyName(otherColumns[at] ?? '')]),
    )
    links[uniqueName(`${toPropertyName(parseTablePath(other).name)}s`, taken())] = {
      mapping: otherMapping(other),
      many,
    }
  }
  return links
}

function notesFor(table: Table, nameOf: ReadonlyMap<string, string>): string[] {
  const notes: string[] = []
  const version = table.columns.find(
    (column) =>
      /(^|_)(version|revision|rev|lock_no)$/i.test(column.name) &&
      ['integer', 'bigint'].includes(column.type.kind) &&
      column.notNull,
  )
  if (version) {
    notes.push(
      `${version.name} looks like a version. If every writer counts it up, use guard: { by: version, property: ${nameOf.get(version.name)} }.`,
    )
  }
  if (table.keys.length === 0 && table.kind !== 'view') {
    notes.push('The table has no unique key without nulls: its records can be listed, but not changed one by one.')
  }
  if (table.kind === 'view')
    notes.push('A view has no key of its own: name the properties that identify a record in key.')
  return notes
}
