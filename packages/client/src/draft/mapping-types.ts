import type { MappingInfo, PropertyInfo } from '@ledgerman/contract'

const KINDS: Record<string, string> = {
  boolean: 'boolean',
  integer: 'number',
  float: 'number | string',
  json: 'unknown',
  jsonb: 'unknown',
}

/** What an interface may not be called: the list of all of them, and what the `type` of a json property may be made of. */
const TAKEN = 'Array Date Map Partial Pick Readonly ReadonlyArray Record Records Set'.split(' ')

/**
 * Writes the TypeScript interfaces of mappings, for typed drafts: `client.draft<Records>('observatory')`. Exact types are strings,
 * as everywhere in the interface.
 */
export function typesOfMappings(mappings: readonly MappingInfo[]): string {
  const names = typeNames(mappings)
  const interfaces = mappings.map(
    (mapping, at) =>
      `/** ${mapping.table.replaceAll('*/', '* /')}, revision ${mapping.revision}. */\nexport interface ${names[at]} {\n${(mapping.properties ?? []).map((property) => member(property, mapping)).join('')}}\n`,
  )
  const list = mappings.map(({ name }, at) => `  ${memberName(name)}: ${names[at]}\n`).join('')
  return `${interfaces.join('\n')}\n/** Every mapping's record, by its name. */\nexport type Records = {\n${list}}\n`
}

/** Each mapping's type, and each another: two interfaces of one name would be one to TypeScript. */
function typeNames(mappings: readonly MappingInfo[]): string[] {
  const taken = new Set(TAKEN)
  return mappings.map(({ name }) => {
    const first = (name.charAt(0).toUpperCase() + name.slice(1)).replace(/[^\p{ID_Continue}]/gu, '_')
    let free = first
    for (let number = 2; taken.has(free); number++) free = `${first}${number}`
    taken.add(free)
    return free
  })
}

function member(property: PropertyInfo, { definition }: MappingInfo): string {
  const type = definition.properties[property.name]?.type ?? typeOf(property)
  const isNullable = property.nullable && type !== 'unknown'
  return `  ${property.writable ? '' : 'readonly '}${memberName(property.name)}: ${type}${isNullable ? ' | null' : ''}\n`
}

/** A name as it stands where it is an identifier (ECMA-262, section 12.7). */
function memberName(name: string): string {
  return /^[\p{ID_Start}_][\p{ID_Continue}]*$/u.test(name) ? name : JSON.stringify(name)
}

function typeOf({ kind, choices, element }: PropertyInfo): string {
  if (kind === 'enum' && choices) return choices.map((label) => JSON.stringify(label)).join(' | ')
  if (kind === 'array') {
    const type = KINDS[element ?? ''] ?? 'string'
    return type === 'unknown' ? 'unknown[]' : `(${type} | null)[]`
  }
  return KINDS[kind] ?? 'string'
}
