import { suggestName } from '@ledgerman/contract'
import { equalAcrossSql } from '../values/operator-sql.js'
import { toManyLinks, toOneLinks, type Link, type Links } from '../mapping/links.js'
import type { Mapping, Property } from '../mapping/mapping.js'

/** What a path of names leads to: a property of the row under an alias. */
export interface Place {
  alias: string
  mapping: Mapping
  property: Property
  sql: string
}

/** How many links to one record a statement follows at most: PostgreSQL plans a thousand for seconds. */
const MOST_LINKS = 100

/** Gives aliases that are used once in a statement. */
export class Aliases {
  #count = 0
  #links = 0

  next(): string {
    return `t${++this.#count}`
  }

  /** The alias of the record that a link leads to. @throws Astray where too many are followed */
  nextLinked(): string {
    if (++this.#links > MOST_LINKS) throw new Astray(`More than ${MOST_LINKS} links to one record are followed here`)
    return this.next()
  }

  /** Whether anything beside the record itself is read. */
  get areUsed(): boolean {
    return this.#count > 0
  }
}

/** The rows that to-one links lead to from the row under an alias, each joined once however often it is named. */
export class Joins {
  readonly #joined: { path: string; alias: string; sql: string; link: Link }[] = []

  constructor(
    readonly mapping: Mapping,
    readonly alias: string,
    readonly links: Links,
    readonly aliases: Aliases,
  ) {}

  /** The joins that were needed, each on a line of its own. */
  get sql(): string {
    return this.#joined.map((each) => each.sql).join('')
  }

  /** @throws Astray where a name behind the first is not known; undefined where the first is not. */
  find(names: readonly string[]): Place | undefined {
    let { mapping, alias } = this as { mapping: Mapping; alias: string }
    for (let at = 0; at < names.length - 1; at++) {
      const name = names[at] as string
      const link = this.links.get(mapping, name)
      if (!link) {
        if (at === 0 && !mapping.byName.has(name)) return undefined
        throw new Astray(
          mapping.byName.has(name)
            ? `${name} is a property of ${mapping.name}, not a link; json is gone into with ->`
            : `${name} is no link of ${mapping.name}. ${suggestName(name, toOneLinks(mapping))}`,
        )
      }
      if (link.toMany)
        throw new Astray(`${name} leads to many of ${link.mapping.name}; name it inside exists(…) or count(…)`)
      alias = this.#join(names.slice(0, at + 1).join('.'), alias, link)
      mapping = link.mapping
    }
    const last = names.at(-1) ?? ''
    const property = mapping.byName.get(last)
    if (property) return { alias, mapping, property, sql: `${alias}.${property.column.sql}` }
    if (toManyLinks(mapping).includes(last))
      throw new Astray(
        `${last} leads to many records; name it inside exists(${last} where …) or count(${last} where …)`,
      )
    if (toOneLinks(mapping).includes(last))
      throw new Astray(
        `${last} leads to a record; name one of its properties, such as ${last}.${anyProperty(this.links.get(mapping, last))}`,
      )
    if (names.length === 1) return undefined
    throw new Astray(`${last} is no property of ${mapping.name}. ${suggestName(last, mapping.byName.keys())}`)
  }

  /** The alias that the row at the end of these links has, joined where it was not yet. */
  aliasOf(linkNames: readonly string[]): { alias: string; link: Link } {
    const joined = this.#joined.find((each) => each.path === linkNames.join('.'))
    if (!joined) throw new Error(`${linkNames.join('.')} is not joined`)
    return joined
  }

  /** Every name that can begin a path. */
  names(): string[] {
    return [...this.mapping.byName.keys(), ...toOneLinks(this.mapping)]
  }

  #join(path: string, from: string, link: Link): string {
    const known = this.#joined.find((each) => each.path === path)
    if (known) return known.alias
    const alias = this.aliases.nextLinked()
    const condition = linkConditionSql(link, from, alias)
    this.#joined.push({ path, alias, link, sql: `\nleft join ${link.mapping.table.sql} as ${alias} on ${condition}` })
    return alias
  }
}

export function linkConditionSql({ pairs }: Link, from: string, to: string): string {
  return pairs
    .map(({ own: { column: own }, other: { column: other } }) =>
      equalAcrossSql(`${to}.${other.sql}`, `${from}.${own.sql}`, other.type, own.type),
    )
    .join(' and ')
}

/** A path that goes wrong behind its first name: the words for it. */
export class Astray extends Error {
  override readonly name = 'Astray'
}

function anyProperty(link: Link | undefined): string {
  return link?.mapping.properties.find((property) => !property.key)?.name ?? 'name'
}
