import type { MappingInfo, PropertyInfo } from '@ledgerman/contract'

const KINDS: Record<string, string> = {
  boolean: 'boolean',
  integer: 'number',
  float: 'number | string',
  json: 'unknown',
  jsonb: 'unknown',
}

/**
 * Writes the TypeScript interfaces of mappings, for typed drafts: `client.draft<Records>('observatory')`. Exact types are strings,
 * as everywhere in the interface.
 */
export function typesOfMappings(mappings: readonly MappingInfo[]): string {
  const interfaces = mappings.map(
    (mapping) =>
      `/** ${mapping.table}, revision ${mapping.revision}. */\nexport interface ${typeName(mapping.name)} {\n${(mapping.properties ?? []).map((property) => member(property, mapping)).join('')}}\n`,
  )
  const list = mappings.map(({ name }) => `  ${name}: ${typeName(name)}\n`).join('')
  return `${interfaces.join('\n')}\n/** Every mapping's record, by its name. */\nexport type Records = {\n${list}}\n`
}

function member(property: PropertyInfo, { definition }: MappingInfo): string {
  const isFixed = property.writable || property.addable ? '' : 'readonly '
  return `  ${isFixed}${property.name}: ${definition.properties[property.name]?.type ?? typeOf(property)}${property.nullable ? ' | null' : ''}\n`
}

function typeOf({ kind, choices, element }: PropertyInfo): string {
  if (kind === 'enum' && choices) return choices.map((label) => JSON.stringify(label)).join(' | ')
  if (kind === 'array') return `(${KINDS[element ?? ''] ?? 'string'} | null)[]`
  return KINDS[kind] ?? 'string'
}

function typeName(name: string): string {
  return name.charAt(0).toUpperCase() + name.slice(1)
}
