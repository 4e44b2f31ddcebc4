import type { MappingDefinition } from '@ledgerman/contract'
import type { ForeignKey, Table } from './catalogue/table.js'
import type { DefinitionFinding } from './resolve-mapping.js'

/** A mapping with its table, as a link meets it. */
export interface LinkEnd {
  definition: MappingDefinition
  table: Table
}

/**
 * Finds links that lead elsewhere than the foreign key of their own columns does: `leadId` refers to `public.observer` and the link
 * leads to a mapping of `archive.observer`, which has the same names. A link without a foreign key says nothing wrong; nor does one
 * to a view, or to a table whose own foreign key leads to the same place.
 */
export function checkLinkColumns(end: LinkEnd, find: (mapping: string) => LinkEnd | undefined): DefinitionFinding[] {
  return Object.entries(end.definition.links ?? {}).flatMap(([name, link]) => {
    const other = find(link.mapping)
    if (!other) return []
    const [side, pairs] = 'on' in link ? (['on', link.on] as const) : (['many', link.many] as const)
    const own = columnsOf(end, Object.keys(pairs))
    const others = columnsOf(other, Object.values(pairs))
    const [from, to] =
      side === 'on'
        ? [
            { ...end, columns: own },
            { ...other, columns: others },
          ]
        : [
            { ...other, columns: others },
            { ...end, columns: own },
          ]
    const keys = from.table.references.filter((key) => isOf(key, from.columns))
    if (keys.length === 0 || to.table.kind !== 'table') return []
    if (keys.some((key) => key.table === to.table.path || leadsOn(to, key))) return []
    const [key] = keys as [ForeignKey]
    return [
      {
        where: `links.${name}.${side}`,
        message: `${from.columns.join(', ')} of ${from.table.path} refers to ${key.table} (${key.name}), and ${to.definition.mapping} is a mapping of ${to.table.path}`,
      },
    ]
  })
}

function columnsOf({ definition }: LinkEnd, names: readonly string[]): string[] {
  return names.map((name) => definition.properties[name]?.column ?? '')
}

function isOf(key: ForeignKey, columns: readonly string[]): boolean {
  return [...key.columns].sort().join('\0') === [...columns].sort().join('\0')
}

/** Whether these columns refer, by a foreign key of their own, to where the other key leads: one row there stands for both. */
function leadsOn(
  { table, columns }: { table: Table; columns: readonly string[] },
  { table: end }: ForeignKey,
): boolean {
  return table.references.some((key) => key.table === end && isOf(key, columns))
}
