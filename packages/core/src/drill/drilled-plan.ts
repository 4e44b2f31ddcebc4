import {
  isProblem,
  LedgermanProblem,
  type DrilledRun,
  type DrillGuard,
  type Isolation,
  type Json,
  type StepDefinition,
  type TransactionDefinition,
} from '@ledgerman/contract'
import type { FindMappingByName } from '../mapping/links.js'
import type { Mapping } from '../mapping/mapping.js'
import { resolveMapping } from '../mapping/resolve-mapping.js'
import { resolvePlan } from '../plan/resolve-plan.js'
import { toldOfRequest } from '../plan/told-of-request.js'
import type { Target } from '../target/target.js'
import { withFrozenClock } from './clock.js'
import type { Drilled } from './scratch/observe-run.js'

type Definition = Omit<TransactionDefinition, 'transaction'>

/** Where definitions come from. */
export interface Definitions {
  /** Who drills: policies and triggers may look at it. */
  actor: string
  mapping(target: Target, name: string): Promise<Mapping>
  transaction(name: string, revision?: number): Promise<{ definition: TransactionDefinition; revision: number }>
}

/** How a run is drilled, where other than its definition says. */
export interface DrillVariant {
  isolation?: Isolation | undefined
  guard?: DrillGuard | undefined
  /** In milliseconds. */
  lockWaitMs?: number
  timeLimitMs?: number
  /** Whether what each write finds is loaded before it, so that it is known also where the write is refused. */
  observes?: boolean
  /** What `now()` is in its expressions; the clock's own where left out. */
  now?: string | undefined
  /** Whether failed attempts are repeated, as the definition says. */
  retries?: boolean
}

/** A guard that none of a run's mappings can have. */
export class NoSuchGuard extends Error {}

/**
 * Makes a plan of what is to be drilled, in the scratch database or on the target itself.
 *
 * @throws LedgermanProblem definition-invalid, not-found, request-invalid; NoSuchGuard
 */
export async function drilledPlan(
  target: Target,
  run: DrilledRun,
  definitions: Definitions,
  variant: DrillVariant = {},
): Promise<Drilled> {
  const { definition, name, revision, params, what } = await definitionOf(run, definitions)
  const { guard = 'as defined', now, isolation, lockWaitMs, timeLimitMs, retries = false, observes = false } = variant
  const own = now === undefined ? definition.steps : withFrozenClock(definition.steps, now)
  const drilled: Definition = {
    ...definition,
    steps: observes ? own.flatMap(withLoad) : guardedSteps(own, guard),
    ...(isolation === undefined ? {} : { isolation }),
    ...(lockWaitMs === undefined || definition.lockWait === 'skip' ? {} : { lockWait: lockWaitMs }),
    ...(timeLimitMs === undefined ? {} : { timeLimit: timeLimitMs }),
    ...(retries ? {} : { retry: 0 }),
  }
  const findMapping: FindMappingByName = async (each) => guardedBy(await definitions.mapping(target, each), guard)
  const plan = await resolvePlan(target, drilled, name, revision, findMapping).catch((error: unknown) => {
    throw 'mapping' in run ? toldOfRequest(error, STEP_OF_SAVE) : error
  })
  const guarded = [...plan.mappings.values()].filter((mapping) => mapping.definition.guard.by === guard)
  if (guard !== 'as defined' && guarded.length === 0)
    throw new NoSuchGuard(`${[...plan.mappings.keys()].join(', ')}: none of these can be guarded by ${guard}.`)
  return { plan, params, what, actor: definitions.actor }
}

interface Named {
  definition: Definition
  name: string | null
  revision: number | null
  params: Record<string, Json>
  what: string
}

const STEP_OF_SAVE = /^steps\.[12]\.(?:(?:key|values)\.)?/

/** A load and a save of one record are two steps. */
async function definitionOf(run: DrilledRun, definitions: Definitions): Promise<Named> {
  const params = ('params' in run ? (run.params ?? {}) : {}) as Record<string, Json>
  if ('transaction' in run) {
    const { definition, revision } = await definitions.transaction(run.transaction, run.revision)
    const { transaction: name, ...rest } = definition
    return { definition: rest as Definition, name, revision, params, what: name }
  }
  if ('mapping' in run) {
    const { mapping, key, values } = run
    if (Object.keys(values).length === 0)
      throw new LedgermanProblem('request-invalid', `values: the save of ${mapping} names no property to set.`, {
        where: 'values',
      })
    const bound = Object.fromEntries(Object.entries(key).map(([property, value]) => [`key_${property}`, value as Json]))
    const found = Object.fromEntries(Object.keys(key).map((property) => [property, `:key_${property}`]))
    const steps: StepDefinition[] = [
      { load: mapping, as: 'loaded', key: found },
      { change: 'loaded', values },
    ]
    return {
      definition: { params: untyped(bound), steps },
      name: null,
      revision: null,
      params: bound,
      what: `load and save ${mapping} ${Object.values(key).map(String).join(', ')}`,
    }
  }
  const { steps, types = {}, isolation, lockWait, timeLimit, retry } = run
  const limits = Object.fromEntries(
    Object.entries({ isolation, lockWait, timeLimit, retry }).filter(([, value]) => value !== undefined),
  )
  const definition: Definition = { params: untyped(params, types), steps, ...limits }
  return {
    definition,
    name: null,
    revision: null,
    params,
    what: steps.length === 1 ? '1 step' : `${steps.length} steps`,
  }
}

function untyped(params: Record<string, Json>, types: Record<string, string> = {}) {
  return Object.fromEntries(
    Object.keys(params).map((name) => [name, { type: types[name] ?? 'unknown', nullable: true }]),
  )
}

/** The steps with every write that names its record by key guarded by the record as loaded, or not at all. */
function guardedSteps(steps: readonly StepDefinition[], guard: DrillGuard): StepDefinition[] {
  if (guard === 'as defined') return [...steps]
  const loads = new Map<string, string>()
  const names = new Set<string>()
  return steps.map((step) => {
    if ('load' in step && step.as !== undefined) {
      names.add(step.as)
      if (step.key) loads.set(`${step.load} ${JSON.stringify(step.key)}`, step.as)
    }
    const verb = (['change', 'replace', 'remove'] as const).find((each) => each in step)
    if (!verb) return step
    const write = step as Record<string, unknown>
    const subject = String(write[verb])
    if (guard === 'none') return { ...step, guard: 'any' } as StepDefinition
    const loaded = names.has(subject) ? undefined : loads.get(`${subject} ${JSON.stringify(write['key'])}`)
    if (loaded === undefined) return step
    const { key: _, guard: __, ...rest } = write
    return { ...rest, [verb]: loaded } as StepDefinition
  })
}

function withLoad(step: StepDefinition): StepDefinition[] {
  const verb = (['change', 'replace', 'remove'] as const).find((each) => each in step)
  const { key, where, when } = step as { key?: object; where?: string; when?: string }
  if (!verb || (key === undefined && where === undefined)) return [step]
  const load = { load: (step as Record<string, unknown>)[verb], ...(key ? { key } : { where }), expect: 'any' }
  return [{ ...load, ...(when === undefined ? {} : { when }) } as StepDefinition, step]
}

function guardedBy(mapping: Mapping, guard: DrillGuard): Mapping {
  const { definition, revision, table } = mapping
  if (guard === 'as defined' || guard === definition.guard.by) return mapping
  // What cannot be guarded so, such as a table without a version, keeps its own.
  if (guard === 'version') return mapping
  try {
    return resolveMapping({ ...definition, guard: { by: guard } }, revision, table)
  } catch (error) {
    if (isProblem(error, 'definition-invalid')) return mapping
    throw error
  }
}

/** @throws LedgermanProblem request-invalid */
export function refuseGuard(error: unknown): never {
  if (!(error instanceof NoSuchGuard)) throw error
  throw new LedgermanProblem('request-invalid', error.message, { where: 'guard' })
}
