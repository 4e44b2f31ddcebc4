import { LedgermanProblem } from '@ledgerman/contract'
import { visitExpression, type Expression } from '../values/expression/expression.js'
import type { Mapping, Property } from './mapping.js'

/** A link with both ends resolved. */
export interface Link {
  name: string
  mapping: Mapping
  /** Own property and the one at the other end, which have equal values. */
  pairs: { own: Property; other: Property }[]
  toMany: boolean
}

/** Gives the mapping of that name. @throws LedgermanProblem not-found, definition-invalid */
export type FindMappingByName = (name: string) => Promise<Mapping>

/** The links that some expressions follow, resolved beforehand so that building a statement stays pure. */
export class Links {
  readonly #links = new Map<Mapping, Map<string, Link>>()

  get(mapping: Mapping, name: string): Link | undefined {
    return this.#links.get(mapping)?.get(name)
  }

  add(mapping: Mapping, link: Link): void {
    let ofMapping = this.#links.get(mapping)
    if (!ofMapping) this.#links.set(mapping, (ofMapping = new Map()))
    ofMapping.set(link.name, link)
  }

  /** Whether the same links lead to the same mappings here and there. */
  leadWhere(other: Links): boolean {
    const ends = [...this.#links].flatMap(([from, links]) => [...links.values()].map((link) => ({ from, link })))
    return ends.every(({ from, link }) => other.get(from, link.name)?.mapping === link.mapping)
  }
}

/** Names of a mapping's links that lead to one record. */
export function toOneLinks({ definition }: Mapping): string[] {
  return Object.entries(definition.links ?? {}).flatMap(([name, link]) => ('on' in link ? [name] : []))
}

export function toManyLinks({ definition }: Mapping): string[] {
  return Object.entries(definition.links ?? {}).flatMap(([name, link]) => ('many' in link ? [name] : []))
}

/**
 * Resolves every link that these expressions and paths follow from a mapping. Names that are none are left for whoever
 * compiles them, who knows the place.
 *
 * @throws LedgermanProblem definition-invalid where a link leads to a mapping that is not there or does not fit.
 */
export async function followLinks(
  mapping: Mapping,
  expressions: readonly Expression[],
  paths: readonly (readonly string[])[],
  findMapping: FindMappingByName,
  links = new Links(),
): Promise<Links> {
  for (const path of paths) await followPath(mapping, path)
  for (const expression of expressions) await followIn(mapping, expression)
  return links

  async function followIn(from: Mapping, expression: Expression): Promise<void> {
    const found: Expression[] = []
    visitExpression(expression, (node) => {
      if (node.kind === 'path' || node.kind === 'linked') found.push(node)
    })
    for (const node of found) {
      if (node.kind === 'path') await followPath(from, node.names)
      else if (node.kind === 'linked') {
        const link = await follow(from, node.link)
        if (link && node.condition) await followIn(link.mapping, node.condition)
      }
    }
  }

  async function followPath(from: Mapping, path: readonly string[]): Promise<void> {
    let current: Mapping | undefined = from
    for (const name of path) current = current && (await follow(current, name))?.mapping
  }

  async function follow(from: Mapping, name: string): Promise<Link | undefined> {
    const definition = from.definition.links?.[name]
    if (!definition || !Object.hasOwn(from.definition.links ?? {}, name)) return undefined
    const known = links.get(from, name)
    if (known) return known
    const other = await findMapping(definition.mapping).catch((error: unknown) => {
      if (!(error instanceof LedgermanProblem)) throw error
      throw brokenLink(from, name, error.detail)
    })
    const toMany = 'many' in definition
    const pairs = Object.entries(toMany ? definition.many : definition.on).map(([ownName, otherName]) => {
      const [own, at] = [from.byName.get(ownName), other.byName.get(otherName)]
      if (!own || !at)
        throw brokenLink(
          from,
          name,
          `${own ? `${other.name} has no property ${otherName}` : `there is no ${ownName}`}.`,
        )
      return { own, other: at }
    })
    const link = { name, mapping: other, pairs, toMany }
    links.add(from, link)
    return link
  }
}

function brokenLink({ name }: Mapping, link: string, why: string): LedgermanProblem {
  return new LedgermanProblem('definition-invalid', `The link ${link} of ${name} cannot be followed: ${why}`, {
    definition: name,
    where: `links.${link}`,
  })
}
