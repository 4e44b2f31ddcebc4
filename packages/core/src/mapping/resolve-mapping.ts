import { JsonTypeError, readJsonType } from './json-type.js'
import {
  isProblem,
  LedgermanProblem,
  suggestName,
  type DefinitionKind,
  type MappingDefinition,
} from '@ledgerman/contract'
import { findColumn, type Column, type Table, type TableKey } from './catalogue/table.js'
import { compileExpression } from '../values/expression/compile.js'
import { visitExpression, type Expression } from '../values/expression/expression.js'
import { parseExpression } from '../values/expression/parse.js'
import type { Guard, Mapping, Property, Rule } from './mapping.js'

/** One thing in a definition that does not fit the table, with its place in the definition. */
export interface DefinitionFinding {
  where: string
  message: string
  /** Whether it is only that a link leads to a mapping that is not there, or does not fit. */
  leadsNowhere?: boolean
}

/**
 * Checks a definition against its table and resolves every name in it.
 *
 * @throws LedgermanProblem definition-invalid with all findings, not only the first.
 */
export function resolveMapping(definition: MappingDefinition, revision: number, table: Table): Mapping {
  const findings: DefinitionFinding[] = []
  const properties = resolveProperties(definition, table, findings)
  const byName = new Map(properties.map((property) => [property.name, property]))
  const key = resolveKey(definition, table, byName, findings)
  const guard = resolveGuard(definition, table, byName, findings)
  checkLinks(definition, byName, findings)
  const rules = resolveRules(definition, byName, findings)
  if (findings.length > 0) throw definitionProblem(definition.mapping, findings)
  return {
    name: definition.mapping,
    revision,
    definition,
    table,
    properties,
    byName,
    key,
    guard: guard as Guard,
    rules,
  }
}

/** Checks where a mapping's links lead, among all the mappings there are. */
export function checkLinkEnds(
  definition: MappingDefinition,
  mappings: ReadonlyMap<string, MappingDefinition>,
): DefinitionFinding[] {
  return Object.entries(definition.links ?? {}).flatMap(([name, link]) => {
    const where = `links.${name}`
    const other = mappings.get(link.mapping)
    if (!other) {
      const hint = suggestName(link.mapping, mappings.keys())
      return [{ where: `${where}.mapping`, message: `there is no mapping ${link.mapping}. ${hint}` }]
    }
    const known = Object.keys(other.properties)
    const [side, pairs] = 'on' in link ? (['on', link.on] as const) : (['many', link.many] as const)
    return Object.entries(pairs)
      .filter(([, property]) => !known.includes(property))
      .map(([own, property]) => ({
        where: `${where}.${side}.${own}`,
        message: `${property} is not a property of ${link.mapping}. ${suggestName(property, known)}`,
      }))
  })
}

/** The problem for a definition with these findings; one without a name is steps that were sent with their run. */
export function definitionProblem(
  name: string | null,
  findings: DefinitionFinding[],
  kind: DefinitionKind = 'mapping',
): LedgermanProblem {
  const list = findings.map(({ where, message }) => `${where}: ${message}`).join(' ')
  const what = name === null ? 'The steps do not fit.' : `The ${kind} ${name} does not fit.`
  return new LedgermanProblem('definition-invalid', `${what} ${list}`, {
    definition: name ?? 'steps',
    findings,
  })
}

function resolveProperties(definition: MappingDefinition, table: Table, findings: DefinitionFinding[]): Property[] {
  const taken = new Map<string, string>()
  const versionName = definition.guard.by === 'version' ? definition.guard.property : undefined
  return Object.entries(definition.properties).flatMap(([name, { column: columnName, fixed, sensitive, type }]) => {
    const where = `properties.${name}.column`
    const column = findColumn(table, columnName)
    if (!column) {
      const hint = suggestName(
        columnName,
        table.columns.map((each) => each.name),
      )
      findings.push({ where, message: `${table.path} has no column ${columnName}. ${hint}` })
      return []
    }
    const other = taken.get(columnName)
    if (other !== undefined) findings.push({ where, message: `the column ${columnName} is held by ${other} already` })
    taken.set(columnName, name)
    const locked = lockOf(column, table)
    return [
      {
        name,
        column,
        key: definition.key.includes(name),
        sensitive: sensitive ?? false,
        jsonType: type === undefined ? null : jsonTypeOf(type, column, `properties.${name}.type`, findings),
        lockedBecause:
          locked ?? (name === versionName ? VERSION_LOCK : fixed ? 'it is fixed once the record exists' : null),
        lockedForAddBecause: locked ?? (name === versionName ? VERSION_LOCK : null),
      },
    ]
  })
}

/** The type that was said of a json property. */
function jsonTypeOf(source: string, { type }: Column, where: string, findings: DefinitionFinding[]): string | null {
  if (type.kind !== 'json' && type.kind !== 'jsonb') {
    findings.push({ where, message: `only a json property has a type of its own; this column is ${type.sql}` })
    return null
  }
  try {
    return readJsonType(source)
  } catch (error) {
    if (!(error instanceof JsonTypeError)) throw error
    findings.push({ where, message: `the type cannot be read: ${error.message}` })
    return null
  }
}

const VERSION_LOCK = 'it is the version, which is counted up with each change'

function lockOf(column: Column, table: Table): string | null {
  if (column.generated) return 'the database computes it'
  if (column.identity === 'always') return 'the database numbers it'
  if (table.kind === 'materialized view') return 'a materialized view cannot be changed'
  if (!column.updatable) return `a change cannot be passed through the ${table.kind}`
  return null
}

function resolveKey(
  definition: MappingDefinition,
  table: Table,
  byName: ReadonlyMap<string, Property>,
  findings: DefinitionFinding[],
): Property[] {
  const key = definition.key.flatMap((name) => {
    const property = byName.get(name)
    if (!property) findings.push(...unknownProperty(definition, name, 'key'))
    return property ? [property] : []
  })
  if (key.length === 0 || key.length < definition.key.length) return key
  const columns = key.map((property) => property.column.name).sort()
  const isThese = (candidate: TableKey): boolean => [...candidate.columns].sort().join('\0') === columns.join('\0')
  // A deferrable key is no key by itself, but its owner may know that it never has two rows; every keyed step counts.
  const isUnique =
    table.keys.some(isThese) ||
    (table.uniques.some((unique) => table.deferrableKeys.includes(unique.name) && isThese(unique)) &&
      key.every(({ column }) => column.notNull))
  // A view has no constraints of its own to check this by; there, every keyed step counts the rows it matched.
  if (!isUnique && table.kind !== 'view') {
    const known = table.keys.map((candidate) => `(${candidate.columns.join(', ')})`).join(', ')
    findings.push({
      where: 'key',
      message: `${columns.join(', ')}: not unique and not null together in ${table.path}; ${known === '' ? 'the table has no such columns, so leave the key empty' : `columns that are: ${known}`}`,
    })
  }
  return key
}

function resolveGuard(
  definition: MappingDefinition,
  table: Table,
  byName: ReadonlyMap<string, Property>,
  findings: DefinitionFinding[],
): Guard | undefined {
  const { guard } = definition
  switch (guard.by) {
    case 'none':
      return { by: 'none' }
    case 'rowStamp':
      if (table.kind === 'table' || table.kind === 'partitioned table') return { by: 'rowStamp' }
      findings.push({ where: 'guard', message: `a ${table.kind} has no row stamp; use version, values or none` })
      return undefined
    case 'version': {
      const property = byName.get(guard.property)
      if (!property) {
        findings.push(...unknownProperty(definition, guard.property, 'guard.property'))
        return undefined
      }
      if (property.column.type.kind !== 'integer' && property.column.type.kind !== 'bigint') {
        findings.push({
          where: 'guard.property',
          message: `${guard.property} is ${property.column.type.sql}; a version is a whole number`,
        })
      }
      return { by: 'version', property, bumpedBy: guard.bumpedBy ?? 'ledgerman' }
    }
    case 'values': {
      const of = guard.of ?? [...byName.values()].filter((each) => each.lockedBecause === null).map((each) => each.name)
      const resolved = of.flatMap((name) => {
        const property = byName.get(name)
        if (!property) findings.push(...unknownProperty(definition, name, 'guard.of'))
        return property ? [property] : []
      })
      return { by: 'values', of: resolved }
    }
  }
}

/** That a name is no property's. One whose column is not there has been told of already. */
function unknownProperty({ properties }: MappingDefinition, name: string, where: string): DefinitionFinding[] {
  if (Object.hasOwn(properties, name)) return []
  return [{ where, message: `${name} is not a property. ${suggestName(name, Object.keys(properties))}` }]
}

function checkLinks(
  definition: MappingDefinition,
  byName: ReadonlyMap<string, Property>,
  findings: DefinitionFinding[],
) {
  for (const [name, link] of Object.entries(definition.links ?? {})) {
    if (byName.has(name)) findings.push({ where: `links.${name}`, message: 'a property has that name already' })
    const pairs = 'on' in link ? link.on : link.many
    for (const own of Object.keys(pairs)) {
      if (!byName.has(own)) findings.push(...unknownProperty(definition, own, `links.${name}`))
    }
  }
}

/** Reads each rule, and sees that every name in it is a property. Its types are PostgreSQL's to check. */
function resolveRules(
  definition: MappingDefinition,
  byName: ReadonlyMap<string, Property>,
  findings: DefinitionFinding[],
): Rule[] {
  return (definition.rules ?? []).flatMap(({ that, otherwise }, at) => {
    try {
      const expression = parseExpression(that)
      compileExpression(expression, that, {
        names: () => byName.keys(),
        find: (names) => {
          const property = byName.get(names.join('.'))
          return property && { sql: property.column.sql, type: property.column.type, sensitive: property.sensitive }
        },
        parameters: new Map(),
        bind: () => '$1',
        mark: () => '',
      })
      return [{ that, otherwise, expression, names: namesIn(expression) }]
    } catch (error) {
      if (!isProblem(error, 'expression-invalid')) throw error
      findings.push({ where: `rules.${at + 1}.that`, message: error.detail })
      return []
    }
  })
}

function namesIn(expression: Expression): string[] {
  const names = new Set<string>()
  visitExpression(expression, (node) => {
    if (node.kind === 'path' && node.names.length === 1) names.add(node.names[0] ?? '')
  })
  return [...names]
}
