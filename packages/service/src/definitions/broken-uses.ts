import type { MappingDefinition } from '@ledgerman/contract'
import { mappingNamesOf, Sources, type DefinitionFinding, type Mapping, type Target } from '@ledgerman/core'
import type { TargetRegistry } from '../targets/target-registry.js'
import { expressionFindings, placed, transactionFindings, type CheckedFinding } from './fit-findings.js'
import type { ReadDefinition } from './read-definition.js'
import type { Named } from './withdraw.js'

/** What is published and withdrawn at once, and the mappings as they will be. */
interface Change {
  reads: readonly ReadDefinition[]
  withdrawn: readonly Named[]
  mappings: ReadonlyMap<string, MappingDefinition>
  findMapping: (name: string) => Promise<Mapping>
}

/** Published transactions, and finds of published mappings, that would no longer fit if these mappings were published. */
export async function brokenUses(
  targets: TargetRegistry,
  target: Target,
  { reads, withdrawn, mappings, findMapping }: Change,
): Promise<CheckedFinding[]> {
  const changed = new Map(reads.flatMap((read) => (read.kind === 'mapping' ? [[read.name, read] as const] : [])))
  if (changed.size === 0) return []
  const replaced = new Set([...reads, ...withdrawn].flatMap(({ kind, name }) => (kind === 'transaction' ? [name] : [])))
  const firstChanged = (names: Iterable<string>) => changed.get([...names].find((name) => changed.has(name)) ?? '')
  const findings: CheckedFinding[] = []
  const told = (read: ReadDefinition, user: string, wrong: readonly DefinitionFinding[], advice: string) => {
    for (const { where, message } of wrong)
      findings.push({
        ...placed(read, { where: '', message: `${user} uses it and would no longer fit: ${where}: ${message}` }),
        advice,
      })
  }
  for (const { name, definition } of await targets.transactions.list(target.name)) {
    const within = firstChanged(withinReach(mappingNamesOf(definition), mappings))
    if (replaced.has(name) || !within) continue
    let read: ReadDefinition | undefined
    const wrong = await transactionFindings(target, definition, findMapping, (sources) => {
      read = firstChanged(sources.mappingNames())
      return read !== undefined
    })
    const advice = 'Publish the transaction, corrected, together with the mapping.'
    told(read ?? within, `the transaction ${name}`, wrong, advice)
  }
  for (const [name, definition] of mappings) {
    if (changed.has(name) || !definition.finds || !firstChanged(withinReach([name], mappings))) continue
    const sources = new Sources(target, findMapping)
    const wrong = await expressionFindings(target, definition, sources.mapping, true)
    const read = firstChanged(sources.mappingNames())
    if (read) told(read, `the mapping ${name}`, wrong, 'Publish both mappings together, corrected.')
  }
  return findings
}

/** The mappings of these names, and those that links lead to from them. */
function withinReach(names: Iterable<string>, mappings: ReadonlyMap<string, MappingDefinition>): Set<string> {
  const reached = new Set(names)
  // A set that grows is gone through to its end.
  for (const name of reached)
    for (const link of Object.values(mappings.get(name)?.links ?? {})) reached.add(link.mapping)
  return reached
}
