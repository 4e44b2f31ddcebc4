import { isProblem, LedgermanProblem, suggestName, type MappingDefinition } from '@ledgerman/contract'
import {
  checkLinkColumns,
  checkLinkEnds,
  resolveMapping,
  type DefinitionFinding,
  type Mapping,
  type Table,
  type Target,
} from '@ledgerman/core'
import type { TargetRegistry } from '../targets/target-registry.js'
import { brokenUses } from './broken-uses.js'
import { expressionFindings, findingsOf, placed, transactionFindings, type CheckedFinding } from './fit-findings.js'
import type { ReadDefinition } from './read-definition.js'
import type { Named } from './withdraw.js'

/**
 * Checks definitions against the live target, and against each other and those that are published.
 *
 * @param isLenient whether a link may lead to a mapping that is still to be published: one by one, some come first
 * @param withdrawn what is to be withdrawn at once
 * @returns everything that does not fit, each with its place.
 */
export async function checkDefinitions(
  targets: TargetRegistry,
  target: Target,
  reads: readonly ReadDefinition[],
  { isLenient = false, withdrawn = [] }: { isLenient?: boolean; withdrawn?: readonly Named[] } = {},
): Promise<CheckedFinding[]> {
  target.forgetCatalogue()
  const findings = duplicates(reads)
  const published = await targets.mappings.list(target.name)
  const mappings = new Map<string, MappingDefinition>(published.map(({ name, definition }) => [name, definition]))
  for (const { kind, name } of withdrawn) if (kind === 'mapping') mappings.delete(name)
  for (const read of reads) if (read.kind === 'mapping') mappings.set(read.name, read.definition)
  const ofMappings = reads.map(async (read) => {
    if (read.kind !== 'mapping') return []
    const wrong = [
      ...(await mappingFindings(target, read.definition)),
      ...(isLenient ? [] : checkLinkEnds(read.definition, mappings)),
      ...(await linkFindings(target, read.definition, mappings)),
    ]
    return wrong.map((finding) => placed(read, finding))
  })
  findings.push(...(await Promise.all(ofMappings)).flat())
  const resolved = new Map<string, Promise<Mapping>>()
  const findMapping = (name: string) => {
    let found = resolved.get(name)
    if (!found) resolved.set(name, (found = resolveNamed(target, name, mappings)))
    return found
  }
  for (const read of reads)
    if (read.kind === 'mapping' && (read.definition.finds ?? read.definition.rules) && !findings.some(isOf(read))) {
      const wrong = await expressionFindings(target, read.definition, findMapping, isLenient)
      findings.push(...wrong.map((finding) => placed(read, finding)))
    }
  for (const read of reads)
    if (read.kind === 'transaction') {
      const wrong = await transactionFindings(target, read.definition, findMapping)
      findings.push(...wrong.map((finding) => placed(read, finding)))
    }
  if (findings.length === 0)
    findings.push(...(await brokenUses(targets, target, { reads, withdrawn, mappings, findMapping })))
  return findings
}

function isOf(read: ReadDefinition) {
  return ({ definition }: CheckedFinding): boolean => definition === `${read.kind} ${read.name}`
}

async function resolveNamed(
  target: Target,
  name: string,
  mappings: ReadonlyMap<string, MappingDefinition>,
): Promise<Mapping> {
  const definition = mappings.get(name)
  if (!definition)
    throw new LedgermanProblem('not-found', `there is no mapping ${name}. ${suggestName(name, mappings.keys())}`, {
      mapping: name,
    })
  return resolveMapping(definition, 0, await target.table(definition.table))
}

/** What of a mapping does not fit its table. */
async function mappingFindings(target: Target, definition: MappingDefinition): Promise<DefinitionFinding[]> {
  try {
    resolveMapping(definition, 0, await target.table(definition.table))
    return []
  } catch (error) {
    if (isProblem(error, 'not-found')) return [{ where: 'table', message: error.detail }]
    if (isProblem(error, 'definition-invalid')) return findingsOf(error)
    throw error
  }
}

/** What of a mapping's links leads elsewhere than the database's own foreign keys; a table that is not there is told with its mapping. */
async function linkFindings(
  target: Target,
  definition: MappingDefinition,
  mappings: ReadonlyMap<string, MappingDefinition>,
): Promise<DefinitionFinding[]> {
  const named = [
    definition,
    ...Object.values(definition.links ?? {}).flatMap((link) => mappings.get(link.mapping) ?? []),
  ]
  const ends = new Map<string, { definition: MappingDefinition; table: Table }>()
  for (const each of named) {
    const table = await target.table(each.table).catch((error: unknown) => {
      if (isProblem(error, 'not-found')) return undefined
      throw error
    })
    if (table) ends.set(each.mapping, { definition: each, table })
  }
  const own = ends.get(definition.mapping)
  return own ? checkLinkColumns(own, (name) => ends.get(name)) : []
}

function duplicates(reads: readonly ReadDefinition[]): CheckedFinding[] {
  const first = new Map<string, ReadDefinition>()
  return reads.flatMap((read) => {
    const name = `${read.kind} ${read.name}`
    const other = first.get(name)
    if (!other) first.set(name, read)
    return other
      ? [
          placed(read, {
            where: read.kind,
            message: `${name} is defined in ${other.file ?? 'an earlier definition'} as well`,
          }),
        ]
      : []
  })
}
