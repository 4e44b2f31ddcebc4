import {
  LedgermanProblem,
  type DefinitionKind,
  type MappingDefinition,
  type TransactionDefinition,
} from '@ledgerman/contract'
import { mappingNamesOf } from '@ledgerman/core'
import type { TargetRegistry } from '../targets/target-registry.js'
import type { ReadDefinition } from './read-definition.js'

/** A definition, by its kind and name. */
export interface Named {
  kind: DefinitionKind
  name: string
}

/**
 * That nothing which stays names what is withdrawn. Only names are looked at: what is withdrawn may have lost its table, or its database.
 *
 * @param reads what is published at once, and so counts as it will be
 * @throws LedgermanProblem definition-in-use with what uses them; request-invalid for what is both published and withdrawn, or withdrawn twice
 */
export async function assertUnused(
  targets: TargetRegistry,
  target: string,
  withdrawn: readonly Named[],
  reads: readonly ReadDefinition[] = [],
): Promise<void> {
  const leaving = new Set<string>()
  for (const each of withdrawn) {
    const isPublished = reads.some((read) => idOf(read) === idOf(each))
    if (isPublished || leaving.has(idOf(each)))
      throw new LedgermanProblem(
        'request-invalid',
        `withdraw: ${idOf(each)} is ${isPublished ? 'published by the same request' : 'named twice'}.`,
        { where: 'withdraw' },
      )
    leaving.add(idOf(each))
  }
  const mappings = new Set(withdrawn.flatMap(({ kind, name }) => (kind === 'mapping' ? [name] : [])))
  if (mappings.size === 0) return
  const lists = await Promise.all([targets.mappings.list(target), targets.transactions.list(target)])
  const staying = new Map<string, Named & { definition: MappingDefinition | TransactionDefinition }>()
  for (const each of [...lists.flat(), ...reads]) if (!leaving.has(idOf(each))) staying.set(idOf(each), each)
  const uses = [...staying.values()].flatMap((user) =>
    [...namesIn(user.definition)].flatMap((mapping) => (mappings.has(mapping) ? [{ mapping, by: user }] : [])),
  )
  if (uses.length === 0) return
  throw new LedgermanProblem(
    'definition-in-use',
    `${[...new Set(uses.map(({ mapping }) => mapping))].map((mapping) => toldUses(mapping, uses)).join(' ')} Withdraw what uses it too, or publish that without it first.`,
    { uses: uses.map(({ mapping, by }) => ({ mapping, definition: idOf(by) })) },
  )
}

function toldUses(mapping: string, uses: readonly { mapping: string; by: Named }[]): string {
  const by = (of: DefinitionKind) => {
    const names = uses.flatMap(({ mapping: used, by }) => (used === mapping && by.kind === of ? [by.name] : []))
    return names.length === 0 ? [] : [`${names.length === 1 ? `the ${of}` : `the ${of}s`} ${names.join(', ')}`]
  }
  const links = by('mapping').map((names) => `linked to by ${names}`)
  const steps = by('transaction').map((names) => `used by ${names}`)
  return `${mapping} is ${[...links, ...steps].join(', and ')}.`
}

/** The mappings that a definition names, each once. */
function namesIn(definition: MappingDefinition | TransactionDefinition): Set<string> {
  if ('transaction' in definition) return mappingNamesOf(definition)
  const linked = new Set(Object.values(definition.links ?? {}).map(({ mapping }) => mapping))
  // A link to itself goes with it.
  linked.delete(definition.mapping)
  return linked
}

function idOf({ kind, name }: Named): string {
  return `${kind} ${name}`
}
