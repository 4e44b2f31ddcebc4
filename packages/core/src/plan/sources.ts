import { isProblem } from '@ledgerman/contract'
import type { FindMappingByName } from '../mapping/links.js'
import type { Mapping } from '../mapping/mapping.js'
import type { Target } from '../target/target.js'
import type { ColumnType } from '../values/column-type.js'

/**
 * Gives mappings and types by their names and remembers which it gave: what was made of them is good as long as the same names stand for the
 * same mappings and types.
 */
export class Sources implements Pick<Target, 'type'> {
  readonly #mappings = new Map<string, Mapping | undefined>()
  readonly #types = new Map<string, ColumnType | undefined>()

  constructor(
    readonly target: Pick<Target, 'type'>,
    readonly findMapping: FindMappingByName,
  ) {}

  readonly mapping: FindMappingByName = async (name) => {
    this.#mappings.set(name, undefined)
    const mapping = await this.findMapping(name)
    this.#mappings.set(name, mapping)
    return mapping
  }

  async type(name: string): Promise<ColumnType | undefined> {
    const type = await this.target.type(name)
    this.#types.set(name, type)
    return type
  }

  /** The names of all mappings that it was asked for. */
  mappingNames(): Iterable<string> {
    return this.#mappings.keys()
  }

  /** Whether it would give the same again. @param findMapping as for who asks now @throws LedgermanProblem what `findMapping` throws */
  async areCurrent(findMapping = this.findMapping): Promise<boolean> {
    const mappings = [...this.#mappings].map(async ([name, mapping]) => (await orNone(findMapping(name))) === mapping)
    const types = [...this.#types].map(async ([name, type]) => (await this.target.type(name)) === type)
    return (await Promise.all([...mappings, ...types])).every(Boolean)
  }
}

/** What is gone is no longer the same; whoever resolves that anew says where it is missing. */
function orNone(found: Promise<Mapping>): Promise<Mapping | undefined> {
  return found.catch((error: unknown) => {
    if (isProblem(error, 'not-found')) return undefined
    throw error
  })
}
