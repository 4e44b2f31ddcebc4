import { randomInt } from 'node:crypto'
import {
  DRILL_GUARDS,
  ISOLATIONS,
  LedgermanProblem,
  type DrillGuard,
  type InterleavingDrill,
  type InterleavingInput,
  type Isolation,
} from '@ledgerman/contract'
import type { Session } from '../../sessions/session-pool.js'
import { DrillClock } from '../clock.js'
import { drilledPlan, type DrillVariant, NoSuchGuard, refuseGuard, type Definitions } from '../drilled-plan.js'
import type { DrillOptions } from '../drill-options.js'
import type { Drilled } from '../scratch/observe-run.js'
import { inScratch } from '../scratch/in-scratch.js'
import type { ScratchDatabase, ScratchSource } from '../scratch/scratch-database.js'
import type { Volatile } from '../volatile.js'
import type { Trial } from './history.js'
import { nameOfRun, ofRun } from '../of-run.js'
import { Cell } from './cell.js'
import { LaneMaker } from './lane-maker.js'
import { SerialOrders } from './serial-orders.js'
import { turnsOf } from './turns.js'
import { runSchedule, type TriedSchedule } from './run-schedule.js'
import { allSchedules, countSchedules, permutations, sampleSchedules, type Schedule } from './schedules.js'

/**
 * Runs two or three runs in every interleaving of their statements, commits included, at each isolation level and with each guard
 * that is asked for, and compares each with the committed ones one after another.
 *
 * @throws LedgermanProblem scratch-unavailable, definition-invalid, request-invalid, cancelled
 */
export async function drillInterleavings(
  source: ScratchSource,
  input: InterleavingInput,
  definitions: Definitions,
  { signal, onProgress, tools }: DrillOptions = {},
): Promise<InterleavingDrill> {
  const started = performance.now()
  const planned = (variant: DrillVariant) =>
    input.runs.map((run, at) =>
      ofRun(at, async () => ({ ...(await drilledPlan(source.target, run, definitions, variant)), at })),
    )
  const asWritten = await Promise.all(planned({}))
  return inScratch(source, await Promise.all(planned({ observes: true })), { signal }, async (scratch, onEnd) => {
    const sessions: Session[] = []
    for (const _ of input.runs) {
      const session = await scratch.runSession()
      sessions.push(session)
      onEnd(() => session.release(true))
      // Deadlocks are part of what is tried, and need not be waited for as long as on a server at work. Where the role may not say
      // so, they are found later.
      await session.query(`set deadlock_timeout = '20ms'`).catch(() => undefined)
    }
    const lengths = asWritten.map(turnsOf)
    const possible = countSchedules(lengths)
    const sampled = possible > BigInt(input.atMost)
    const seed = sampled ? (input.seed ?? randomInt(2 ** 32)) : null
    const schedules = seed === null ? [...allSchedules(lengths)] : sampleSchedules(lengths, input.atMost, seed)
    const clock = await DrillClock.begin((text) => scratch.asKeeper(text))
    const variants = await variantsOf(scratch, input, definitions, clock)
    const lanes = new LaneMaker(scratch, sessions, clock)
    if (input.code) onEnd(await lanes.byCode(variants, input.code, tools))
    const { results, notCompared, notRun } = await tryAll(scratch, variants, schedules, lanes, clock, {
      signal,
      onProgress,
    })
    return {
      kind: 'interleaving',
      of: input.code ? 'code' : 'definition',
      passed: notRun === null && results.every(({ anomalies }) => anomalies.length === 0),
      notRun,
      notCompared,
      runs: asWritten.map((each, run) => ({ run: nameOfRun(run), what: each.what, statements: turnsOf(each) })),
      results,
      possible: Number(possible),
      sampled,
      seed,
      scratch: scratch.info,
      durationMs: Math.round(performance.now() - started),
    }
  })
}

/** How often the drill starts again with more rows, since an order asks for one that no other asked for. */
const MOST_BEGINNINGS = 10

interface Tried {
  results: InterleavingDrill['results']
  notCompared: string[]
  notRun: string | null
}

/**
 * Tries every schedule of every variant. Where a run looks in vain for a record that the target has, it is fetched, and all starts again:
 * what was not there says nothing of the target.
 */
async function tryAll(
  scratch: ScratchDatabase,
  variants: readonly Variant[],
  schedules: readonly Schedule[],
  lanes: LaneMaker,
  clock: DrillClock,
  options: DrillOptions,
): Promise<Tried> {
  for (let beginning = 1; beginning <= MOST_BEGINNINGS; beginning++) {
    const tried = await tryOnce(scratch, variants, schedules, lanes, clock, options)
    if (tried !== 'restart') return tried
  }
  throw new LedgermanProblem(
    'scratch-unavailable',
    `The runs ask for ever more records: after ${MOST_BEGINNINGS} beginnings some are still missing. Drill them with parameters that reach fewer.`,
  )
}

async function tryOnce(
  scratch: ScratchDatabase,
  variants: readonly Variant[],
  schedules: readonly Schedule[],
  lanes: LaneMaker,
  clock: DrillClock,
  { signal, onProgress }: DrillOptions,
): Promise<Tried | 'restart'> {
  const results: InterleavingDrill['results'] = []
  const notCompared = new Set<string>()
  const everCommitted = new Set<number>()
  /** What each run was told where it was refused: the first of it. */
  const told = new Map<number, string>()
  let done = 0
  for (const { isolation, guard, drilled } of variants) {
    const cell = new Cell(isolation, guard)
    if (lanes.isByCode && (await fetchForAnyOrder(scratch, drilled, lanes, clock))) return 'restart'
    const orders = new SerialOrders(scratch, drilled, (volatile) => lanes.of(drilled, volatile), clock)
    const first = await orders.prepare()
    if (await fetchAny(scratch, first.missing)) return 'restart'
    for (const [table, columns] of orders.volatile) for (const column of columns) notCompared.add(`${table}.${column}`)
    const tell = ({ refusals }: Trial) => refusals.forEach((refusal, run) => refusal === null && everCommitted.add(run))
    tell(first.trial)
    for (const { run, action, message } of first.trial.events)
      if (action === 'refused' && !told.has(run)) told.set(run, message)
    for (const schedule of schedules) {
      if (signal?.aborted) throw new LedgermanProblem('cancelled', 'The caller went away, so the drill was stopped.')
      const tried = await runSchedule(
        scratch,
        drilled,
        lanes.of(drilled, orders.volatile),
        schedule,
        orders.volatile,
        clock,
      )
      if (await fetchAny(scratch, tried.missing)) return 'restart'
      tell(tried.trial)
      // Runs that do not meet have the result they have: one after the other is what all is compared with.
      cell.count(tried, isSerial(schedule) ? null : await orders.ofCommitted(tried.trial))
      onProgress?.(++done, schedules.length * variants.length, `${isolation}, ${guard}`)
    }
    results.push(cell.result())
  }
  return { results, notCompared: [...notCompared], notRun: whyNotRun(lanes.sessions.length, everCommitted, told) }
}

/** A run that is refused whatever happens shows nothing of itself, nor of what others do to it. */
function whyNotRun(runs: number, everCommitted: ReadonlySet<number>, told: ReadonlyMap<number, string>): string | null {
  const never = Array.from({ length: runs }, (_, run) => run).filter((run) => !everCommitted.has(run))
  const [first] = never
  if (first === undefined) return null
  const who =
    never.length === runs
      ? 'No run was'
      : `${never.map(nameOfRun).join(' and ')} ${never.length === 1 ? 'was' : 'were'} not`
  return `${who} committed in any order that was tried: ${told.get(first) ?? 'it was refused each time'}`
}

async function fetchAny(scratch: ScratchDatabase, missing: TriedSchedule['missing']): Promise<boolean> {
  let hasFetched = false
  for (const { mapping, key } of missing) hasFetched = (await scratch.fetchMissing(mapping, key)) || hasFetched
  return hasFetched
}

/** The code tells nobody which record it looked for in vain: the core runs every order first, so that all are there. */
async function fetchForAnyOrder(
  scratch: ScratchDatabase,
  drilled: readonly Drilled[],
  lanes: LaneMaker,
  clock: DrillClock,
): Promise<boolean> {
  for (const order of permutations(drilled.map((_, run) => run))) {
    const schedule = order.flatMap((run) => Array.from({ length: turnsOf(drilled[run] as Drilled) }, () => run))
    const nothingHidden: Volatile = new Map()
    const tried = await runSchedule(
      scratch,
      drilled,
      lanes.byCore(drilled, nothingHidden),
      schedule,
      nothingHidden,
      clock,
    )
    if (await fetchAny(scratch, tried.missing)) return true
  }
  return false
}

/** Whether each run is over before the next begins. */
function isSerial(schedule: Schedule): boolean {
  const changes = schedule.filter((run, at) => at > 0 && run !== schedule[at - 1]).length
  return changes === new Set(schedule).size - 1
}

interface Variant {
  isolation: string
  guard: DrillGuard
  drilled: Drilled[]
}

/** The runs at each level and with each guard; of `all` guards only those that the mappings can have. */
async function variantsOf(
  scratch: ScratchDatabase,
  { runs, isolation, guard }: InterleavingInput,
  definitions: Definitions,
  clock: DrillClock,
): Promise<Variant[]> {
  const levels: (Isolation | undefined)[] = isolation?.includes('all')
    ? [...ISOLATIONS]
    : ((isolation as Isolation[] | undefined) ?? [undefined])
  const isAll = guard.includes('all')
  // The load and save of a record has a guard of some kind in any case.
  const isPlain = runs.every((run) => 'mapping' in run)
  const guards = isAll ? DRILL_GUARDS.filter((each) => !(isPlain && each === 'as defined')) : (guard as DrillGuard[])
  const variants = []
  for (const level of levels)
    for (const by of guards)
      try {
        const drilled = await Promise.all(
          runs.map((run, at) =>
            drilledPlan(scratch.target, run, definitions, {
              isolation: level,
              guard: by,
              lockWaitMs: 9_000,
              now: clock.frozenFor(at),
            }),
          ),
        )
        const own = [...new Set(drilled.map(({ plan }) => plan.isolation))].join(' and ')
        variants.push({ isolation: own, guard: by, drilled })
      } catch (error) {
        if (!(isAll && error instanceof NoSuchGuard)) refuseGuard(error)
      }
  return variants
}
