import { parseTablePath, type LinkDefinition, type MappingDefinition } from '@ledgerman/contract'
import type { Table } from './catalogue/table.js'
import { takeName, toPropertyName } from './property-name.js'

/** What a column of a table is called in the table's mapping. */
export type PropertyOf = (path: string, column: string) => string | undefined

export interface DerivedDefinition {
  definition: MappingDefinition
  /** What a person should look at before publishing it. */
  notes: string[]
}

/**
 * Derives a mapping from a table: camelCase names, the primary key (else the first unique not-null key), foreign keys as
 * links, guard `rowStamp`. A column that looks like a version is suggested in the notes, never assumed.
 *
 * @param nameOfTable names the mapping of each table: the published one, where there is one.
 * @param propertyOf what a column of another table is called in its mapping: as published, where it is; undefined where it is left out.
 */
export function deriveMapping(
  table: Table,
  nameOfTable: (path: string) => string | undefined,
  propertyOf: PropertyOf = (_, column) => toPropertyName(column),
): DerivedDefinition {
  const taken = new Set<string>()
  const nameOf = new Map(table.columns.map(({ name }) => [name, takeName(toPropertyName(name), taken)]))
  const key = table.keys[0]?.columns ?? []
  const definition: MappingDefinition = {
    mapping: nameOfTable(table.path) ?? toPropertyName(table.name),
    table: table.path,
    key: key.map((column) => nameOf.get(column) ?? column),
    guard: isStampable(table) && table.isReadable ? { by: 'rowStamp' } : { by: 'values' },
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
  const links = deriveLinks(table, nameOf, nameOfTable, propertyOf)
  if (Object.keys(links).length > 0) definition.links = links
  return { definition, notes: notesFor(table, nameOf) }
}

function isStampable(table: Table): boolean {
  return table.kind === 'table' || table.kind === 'partitioned table'
}

function deriveLinks(
  table: Table,
  nameOf: ReadonlyMap<string, string>,
  nameOfTable: (path: string) => string | undefined,
  propertyOf: PropertyOf,
): Record<string, LinkDefinition> {
  const links: Record<string, LinkDefinition> = {}
  const taken = new Set(nameOf.values())
  const otherMapping = (path: string) => nameOfTable(path) ?? toPropertyName(parseTablePath(path).name)
  /** The pairs of properties that a foreign key is; undefined where the other mapping leaves one of its columns out. */
  const pairsOf = (columns: readonly string[], other: string, otherColumns: readonly string[]) => {
    const pairs = columns.map((column, at) => [nameOf.get(column) ?? column, propertyOf(other, otherColumns[at] ?? '')])
    return pairs.every(([, property]) => property !== undefined)
      ? (Object.fromEntries(pairs) as Record<string, string>)
      : undefined
  }
  for (const { columns, table: other, otherColumns } of table.references) {
    const first =
      columns.length === 1 ? (columns[0] ?? '').replace(/_(id|code|no|key)$/i, '') : parseTablePath(other).name
    const on = pairsOf(columns, other, otherColumns)
    if (!on) continue
    links[takeName(toPropertyName(first), taken)] = { mapping: otherMapping(other), on }
  }
  for (const { columns, table: other, otherColumns } of table.referencedBy) {
    const many = pairsOf(columns, other, otherColumns)
    if (!many) continue
    links[takeName(`${toPropertyName(parseTablePath(other).name)}s`, taken)] = {
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
  if (!table.isReadable)
    notes.push(
      'The role of this target may not read the whole table. Grant it select, or leave out what it may not read; a row stamp needs all of it.',
    )
  if (table.hasRules)
    notes.push('Rules rewrite what is done to this table: its records can be read, and not changed here.')
  for (const name of table.deferrableKeys)
    notes.push(
      `The key ${name} is deferrable: within a transaction two rows may have it, so it is not taken for one. If that never happens, name its properties in key.`,
    )
  if (table.kind === 'materialized view')
    notes.push('A materialized view is only refreshed: its records can be read, and not changed here.')
  else if (table.kind === 'foreign table')
    notes.push(
      'PostgreSQL knows no keys of a foreign table: its records can be listed. To change them, map a view of it, and name the key there.',
    )
  else if (table.keys.length === 0 && table.kind !== 'view') {
    notes.push('The table has no unique key without nulls: its records can be listed, but not changed one by one.')
  }
  if (table.kind === 'view')
    notes.push('A view has no key of its own: name the properties that identify a record in key.')
  return notes
}
