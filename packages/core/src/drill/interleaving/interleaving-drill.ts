import { randomInt } from 'node:crypto'
import {
  DRILL_GUARDS,
  ISOLATIONS,
  LedgermanProblem,
  type Anomaly,
  type DrillGuard,
  type InterleavingDrill,
  type InterleavingInput,
  type Isolation,
  type ScheduleStep,
} from '@ledgerman/contract'
import type { Session } from '../../target/session-pool.js'
import { drilledPlan, NoSuchGuard, refuseGuard, type Definitions } from '../drilled-plan.js'
import type { DrillOptions } from '../drill-options.js'
import type { Drilled } from '../scratch/observe-run.js'
import { ScratchDatabase, type ScratchSource } from '../scratch/scratch-database.js'
import { toRowDifference } from '../scratch/snapshot.js'
import { volatileColumns, type Volatile } from '../volatile.js'
import type { Trial } from './history.js'
import { judge, nameOfRun, type Serial } from './judge.js'
import { turnsOf } from './lane.js'
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
  { signal, onProgress }: DrillOptions = {},
): Promise<InterleavingDrill> {
  const started = performance.now()
  const asWritten = await Promise.all(input.runs.map((run) => drilledPlan(source.target, run, definitions)))
  const observing = input.runs.map((run) => drilledPlan(source.target, run, definitions, { observes: true }))
  const scratch = await ScratchDatabase.build(source, await Promise.all(observing))
  const sessions: Session[] = []
  try {
    for (const _ of input.runs) {
      const session = await scratch.runSession()
      sessions.push(session)
      // Deadlocks are part of what is tried, and need not be waited for as long as on a server at work. Where the role may not say
      // so, they are found later.
      await session.query(`set deadlock_timeout = '20ms'`).catch(() => undefined)
    }
    const lengths = asWritten.map(turnsOf)
    const possible = countSchedules(lengths)
    const sampled = possible > BigInt(input.atMost)
    const seed = sampled ? (input.seed ?? randomInt(2 ** 32)) : null
    const schedules = seed === null ? [...allSchedules(lengths)] : sampleSchedules(lengths, input.atMost, seed)
    const results: InterleavingDrill['results'] = []
    const variants = await variantsOf(scratch, input, definitions)
    let done = 0
    for (const { isolation, guard, drilled } of variants) {
      const cell = new Cell(isolation, guard)
      const orders = new SerialOrders(scratch, drilled, sessions)
      await orders.prepare()
      for (const schedule of schedules) {
        if (signal?.aborted) throw new LedgermanProblem('cancelled', 'The caller went away, so the drill was stopped.')
        const tried = await runSchedule(scratch, drilled, sessions, schedule, orders.volatile)
        cell.count(tried, await orders.ofCommitted(tried.trial))
        onProgress?.(++done, schedules.length * variants.length, `${isolation}, ${guard}`)
      }
      results.push(cell.result())
    }
    return {
      kind: 'interleaving',
      passed: results.every(({ anomalies }) => anomalies.length === 0),
      runs: asWritten.map((each, run) => ({ run: nameOfRun(run), what: each.what, statements: turnsOf(each) })),
      results,
      possible: Number(possible),
      sampled,
      seed,
      scratch: scratch.info,
      durationMs: Math.round(performance.now() - started),
    }
  } finally {
    for (const session of sessions) session.release(true)
    await scratch.drop()
  }
}

/** The runs at each level and with each guard; of `all` guards only those that the mappings can have. */
async function variantsOf(
  scratch: ScratchDatabase,
  { runs, isolation, guard }: InterleavingInput,
  definitions: Definitions,
): Promise<{ isolation: string; guard: DrillGuard; drilled: Drilled[] }[]> {
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
          runs.map((run) =>
            drilledPlan(scratch.target, run, definitions, { isolation: level, guard: by, lockWaitMs: 9_000 }),
          ),
        )
        const own = [...new Set(drilled.map(({ plan }) => plan.isolation))].join(' and ')
        variants.push({ isolation: own, guard: by, drilled })
      } catch (error) {
        if (!(isAll && error instanceof NoSuchGuard)) refuseGuard(error)
      }
  return variants
}

/** The committed runs one after another, in every order: each order is run once, when it is first asked for. */
class SerialOrders {
  readonly #known = new Map<string, Serial>()
  volatile: Volatile = new Map()

  constructor(
    readonly scratch: ScratchDatabase,
    readonly drilled: readonly Drilled[],
    readonly sessions: readonly Session[],
  ) {}

  /** Runs one order twice, to see what a clock or chance decides. */
  async prepare(): Promise<void> {
    const order = this.drilled.map((_, run) => run)
    const once = await this.#run(order)
    const again = await this.#run(order)
    this.volatile = volatileColumns(once.differing, again.differing)
  }

  async ofCommitted({ refusals }: Trial): Promise<Serial[]> {
    const committed = refusals.flatMap((refusal, run) => (refusal === null ? [run] : []))
    const serials: Serial[] = []
    for (const order of permutations(committed)) {
      const key = order.join()
      let serial = this.#known.get(key)
      if (!serial) this.#known.set(key, (serial = { order, trial: (await this.#run(order)).trial }))
      serials.push(serial)
    }
    return serials
  }

  #run(order: readonly number[]): Promise<TriedSchedule> {
    const schedule: Schedule = order.flatMap((run) =>
      Array.from({ length: turnsOf(this.drilled[run] as Drilled) }, () => run),
    )
    return runSchedule(this.scratch, this.drilled, this.sessions, schedule, this.volatile)
  }
}

/** What came of all schedules at one level and with one guard. */
class Cell {
  #tried = 0
  #committed = 0
  readonly #refusals: Record<string, number> = {}
  readonly #anomalies = new Map<string, Anomaly>()

  constructor(
    readonly isolation: string,
    readonly guard: string,
  ) {}

  count({ trial, differing }: TriedSchedule, serials: readonly Serial[]): void {
    this.#tried++
    if (trial.refusals.every((refusal) => refusal === null)) this.#committed++
    for (const refusal of trial.refusals)
      if (refusal !== null) this.#refusals[refusal] = (this.#refusals[refusal] ?? 0) + 1
    const verdict = judge(trial, serials)
    if (!verdict) return
    const known = this.#anomalies.get(verdict.name)
    if (known) known.schedules++
    else
      this.#anomalies.set(verdict.name, {
        ...verdict,
        schedules: 1,
        schedule: toScheduleSteps(trial),
        final: differing.map(toRowDifference),
      })
  }

  result(): InterleavingDrill['results'][number] {
    return {
      isolation: this.isolation,
      guard: this.guard,
      tried: this.#tried,
      committed: this.#committed,
      refused: this.#tried - this.#committed,
      refusals: this.#refusals,
      anomalies: [...this.#anomalies.values()],
    }
  }
}

function toScheduleSteps({ events }: Trial): ScheduleStep[] {
  return events.map(({ run, step, kind, says, did, rows }) => ({
    run: nameOfRun(run),
    step,
    kind,
    says,
    did,
    reads: rows.flatMap(({ mapping, key, before, isWritten }) =>
      isWritten || before === null ? [] : [{ mapping, key, values: before }],
    ),
    writes: rows.flatMap(({ mapping, key, before, after, isWritten }) => {
      if (!isWritten) return []
      const names = Object.keys(before ?? after ?? {}).filter(
        (name) => !before || !after || JSON.stringify(before[name]) !== JSON.stringify(after[name]),
      )
      const pick = (row: typeof before) => row && Object.fromEntries(names.map((name) => [name, row[name]]))
      return [{ mapping, key, before: pick(before), after: pick(after) }]
    }),
  }))
}
