import type { TableKey } from './catalogue/table.js'
import type { Mapping, Property } from './mapping.js'

/** The unique index that sees to it that no two rows have the same values of these properties, if one does; it may be checked late. */
export function uniqueOver({ table }: Mapping, properties: readonly Property[]): TableKey | undefined {
  const wanted = new Set(properties.map(({ column }) => column.name))
  return table.uniques.find(
    (unique) =>
      unique.partialOver === null &&
      unique.columns.length === wanted.size &&
      unique.columns.every((column) => wanted.has(column)),
  )
}
