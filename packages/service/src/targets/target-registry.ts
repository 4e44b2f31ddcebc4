import type { Caller } from '../home/token-store.js'
import { assertNamed } from '../http/limited-token.js'
import {
  isProblem,
  LedgermanProblem,
  parseTablePath,
  suggestName,
  toTablePath,
  type TargetInfo,
} from '@ledgerman/contract'
import {
  definitionProblem,
  resolvePlan,
  resolveMapping,
  readTargetState,
  Sources,
  Target,
  type Mapping,
  type Plan,
  type TargetActivity,
} from '@ledgerman/core'
import { LRUCache } from 'lru-cache'
import type { ServiceConfig } from '../config/service-config.js'
import type { DefinitionStore, MappingRevision } from '../home/definition-store.js'

/** How long an answer of a target may be at least, in bytes. */
const ANSWER_BYTES = 64 * 1024 * 1024

/** The targets this service works on, and their mappings as they fit the live tables. */
export class TargetRegistry {
  readonly configured: ServiceConfig['targets']
  readonly #targets: ReadonlyMap<string, Target>
  readonly #resolved = new WeakMap<object, Map<string, Mapping>>()
  readonly #plans = new LRUCache<string, { plan: Plan; sources: Sources }>({ max: 1_000 })

  constructor(
    { targets, bodyLimitBytes }: Pick<ServiceConfig, 'targets' | 'bodyLimitBytes'>,
    digestKey: Buffer,
    readonly mappings: DefinitionStore<'mapping'>,
    readonly transactions: DefinitionStore<'transaction'>,
    onSessionError: (target: string, error: Error) => void,
    activityOf: (target: string) => TargetActivity,
  ) {
    this.configured = targets
    // What was taken in one body comes back as it was and as it is.
    const answerBytes = Math.max(ANSWER_BYTES, 2 * bodyLimitBytes)
    this.#targets = new Map(
      Object.entries(targets).map(([name, { url, connections, prepareStatements, lockWaitMs, timeLimitMs }]) => [
        name,
        new Target({
          name,
          url,
          connections,
          prepareStatements,
          limits: { lockWaitMs, timeLimitMs, answerBytes },
          digestKey,
          onSessionError: (error) => onSessionError(name, error),
          activity: activityOf(name),
        }),
      ]),
    )
  }

  /** Whether it is the demo, where things may be staged. */
  isDemo(name: string): boolean {
    return this.configured[name]?.demo === true
  }

  names(): string[] {
    return [...this.#targets.keys()]
  }

  /** @throws LedgermanProblem not-found */
  get(name: string): Target {
    const target = this.#targets.get(name)
    if (target) return target
    throw new LedgermanProblem('not-found', `There is no target ${name}. ${suggestName(name, this.names())}`, {
      target: name,
    })
  }

  /** The address of a target's database, with its password. */
  url(name: string): string {
    return this.configured[this.get(name).name]?.url ?? ''
  }

  /** The latest revision of a transaction, or an earlier one, as it was written. @throws LedgermanProblem not-found */
  transaction(target: Target, name: string, revision?: number) {
    return revision === undefined
      ? this.transactions.get(target.name, name)
      : this.transactions.getRevision(target.name, name, revision)
  }

  /** By table, the columns that some mapping says are sensitive. */
  async sensitiveColumns(target: Target): Promise<Map<string, Set<string>>> {
    const hidden = new Map<string, Set<string>>()
    for (const { definition } of await this.mappings.list(target.name)) {
      const { schema, name } = parseTablePath(definition.table)
      const columns = Object.values(definition.properties).flatMap(({ sensitive, column }) =>
        sensitive ? [column] : [],
      )
      const path = toTablePath(schema, name)
      if (columns.length > 0) hidden.set(path, new Set([...(hidden.get(path) ?? []), ...columns]))
    }
    return hidden
  }

  /** The latest revision of a mapping, resolved. @throws LedgermanProblem not-found, definition-invalid (drift) */
  async mapping(target: Target, name: string): Promise<Mapping> {
    return this.resolve(target, await this.mappings.get(target.name, name))
  }

  /** The same for somebody whose token may be limited. @throws LedgermanProblem forbidden; and as `mapping` */
  async mappingFor(caller: Pick<Caller, 'actor' | 'only'>, target: Target, name: string): Promise<Mapping> {
    assertNamed(caller, name)
    return this.mapping(target, name)
  }

  /** A revision resolved against the table as it is; the same object as long as neither changes. @throws LedgermanProblem definition-invalid */
  async resolve(target: Target, { definition, revision }: MappingRevision): Promise<Mapping> {
    const table = await target.table(definition.table).catch((error: unknown) => {
      if (!isProblem(error, 'not-found')) throw error
      throw definitionProblem(definition.mapping, [{ where: 'table', message: error.detail }])
    })
    let byRevision = this.#resolved.get(table)
    if (!byRevision) this.#resolved.set(table, (byRevision = new Map()))
    const key = `${definition.mapping} ${revision}`
    let mapping = byRevision.get(key)
    if (!mapping) byRevision.set(key, (mapping = resolveMapping(definition, revision, table)))
    return mapping
  }

  /** The latest revision of a transaction, or an earlier one, as a plan that fits the target. @throws LedgermanProblem not-found, definition-invalid */
  async plan(target: Target, name: string, revision?: number): Promise<Plan> {
    const found = await this.transaction(target, name, revision)
    // A plan is good as long as all that it is made of is the same: neither published again nor altered underneath.
    const key = `${target.name} ${name} ${found.revision}`
    const kept = this.#plans.get(key)
    if (kept && (await kept.sources.areCurrent())) return kept.plan
    const sources = new Sources(target, (each) => this.mapping(target, each))
    const plan = await resolvePlan(sources, found.definition, name, found.revision, sources.mapping)
    this.#plans.set(key, { plan, sources })
    return plan
  }

  /** The revision an entry was written with, where it still fits the table. */
  findRevision(target: Target, name: string, revision: number): Promise<Mapping | undefined> {
    return whereItFits(async () => this.resolve(target, await this.mappings.getRevision(target.name, name, revision)))
  }

  /** The mapping, where there still is one that fits its table: the book knows of others, too. */
  findMapping(target: Target, name: string): Promise<Mapping | undefined> {
    return whereItFits(() => this.mapping(target, name))
  }

  async describe(target: Target): Promise<TargetInfo> {
    try {
      const state = await readTargetState(target)
      return { name: target.name, reachable: true, problem: null, ...state }
    } catch (error) {
      const problem = isProblem(error) ? error.detail : 'The target cannot be asked.'
      return {
        name: target.name,
        reachable: false,
        book: 'unknown',
        server: null,
        database: null,
        problem,
        warnings: [],
      }
    }
  }

  async close(): Promise<void> {
    await Promise.all([...this.#targets.values()].map((target) => target.close()))
  }
}

/** What a definition leads to; undefined where it is gone, or fits its table no more. */
async function whereItFits<T>(read: () => Promise<T>): Promise<T | undefined> {
  try {
    return await read()
  } catch (error) {
    if (isProblem(error, 'not-found', 'definition-invalid')) return undefined
    throw error
  }
}
