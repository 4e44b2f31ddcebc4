import {
  isProblem,
  LedgermanProblem,
  roundMs,
  type ProblemCode,
  type RaceDrill,
  type RaceInput,
} from '@ledgerman/contract'
import { runPlan } from '../../run/steps/run-plan.js'
import { drilledPlan, type Definitions } from '../drilled-plan.js'
import type { DrillOptions } from '../drill-options.js'
import { ofRun } from '../of-run.js'
import type { Drilled } from '../scratch/observe-run.js'
import { inScratch } from '../scratch/in-scratch.js'
import type { ScratchDatabase, ScratchSource } from '../scratch/scratch-database.js'
import { answerOf, codeRunOf, type CodeRun } from '../written/code-run.js'
import { holds, readInvariant, valueOf, type Invariant } from './invariant.js'

/** How often the invariants are looked at while the runs go on, in milliseconds. */
const LOOK_EVERY_MS = 100

/** What a run ends with whose connection broke, or could not be made. */
const BROKEN: ReadonlySet<string> = new Set<ProblemCode>(['target-unavailable', 'outcome-unknown'])

/**
 * Commits many runs at once in the scratch database, and looks whether what has to stay is kept: before, meanwhile, afterwards.
 *
 * @throws LedgermanProblem scratch-unavailable, definition-invalid, expression-invalid, cancelled
 */
export async function drillRace(
  source: ScratchSource,
  input: RaceInput,
  definitions: Definitions,
  { signal, onProgress, tools }: DrillOptions = {},
): Promise<RaceDrill> {
  const started = performance.now()
  const { times, atOnce } = input
  const observing = input.runs.map((run, place) => {
    const at = input.runs.length === 1 ? undefined : place
    return ofRun(at, async () => ({
      ...(await drilledPlan(source.target, run, definitions, { observes: true })),
      at,
    }))
  })
  return inScratch(source, await Promise.all(observing), { signal }, async (scratch, onEnd) => {
    const kept = await Promise.all(
      input.keep.map(async (expression) =>
        Keeper.begin(scratch, await readInvariant(expression, (name) => definitions.mapping(scratch.target, name))),
      ),
    )
    const drilled = await Promise.all(
      input.runs.map((run) =>
        drilledPlan(scratch.target, run, definitions, { isolation: input.isolation, retries: true }),
      ),
    )
    const { code: form } = input
    if (form !== undefined && !tools) throw new TypeError('written code is drilled with tools that compile it')
    const codes =
      form && tools
        ? await Promise.all(drilled.map((each) => codeRunOf(scratch.target, each, form, tools, false)))
        : null
    const written = codes && tools ? tools.pool(scratch.url, atOnce) : null
    if (written) onEnd(written.end)
    const count = new RaceCount()
    let next = 0
    const timer = setInterval(() => void Promise.all(kept.map((keeper) => keeper.lookMeanwhile())), LOOK_EVERY_MS)
    const began = performance.now()
    try {
      await Promise.all(
        Array.from({ length: Math.min(atOnce, times) }, async () => {
          while (next < times && !signal?.aborted) {
            const at = next++ % drilled.length
            const outcome = await (codes && written
              ? count.runCode(codes[at] as CodeRun, written.pool)
              : count.run(scratch, drilled[at] as Drilled))
            // Nobody cuts a connection here: all others would fail alike.
            if (BROKEN.has(outcome)) await scratch.assertThere()
            onProgress?.(count.done, times, 'runs')
          }
        }),
      )
    } finally {
      clearInterval(timer)
    }
    const raceMs = performance.now() - began
    if (signal?.aborted) throw new LedgermanProblem('cancelled', 'The caller went away, so the drill was stopped.')
    for (const keeper of kept) await keeper.look()
    const results = kept.map((keeper) => keeper.result())
    const told = count.result(raceMs)
    const notRun =
      told.committed === 0 ? `None of ${times} runs was committed: ${Object.keys(told.refusals).join(', ')}.` : null
    return {
      kind: 'race',
      of: input.code ? 'code' : 'definition',
      passed: notRun === null && results.every(({ held }) => held),
      notRun,
      times,
      atOnce,
      ...told,
      kept: results,
      scratch: scratch.info,
      durationMs: Math.round(performance.now() - started),
    }
  })
}

class RaceCount {
  done = 0
  #committed = 0
  #retries = 0
  readonly #refusals: Record<string, number> = {}
  readonly #latencies: number[] = []

  /** @returns what came of it: `committed`, or the code of its refusal */
  async run(scratch: ScratchDatabase, { plan, params, actor }: Drilled): Promise<string> {
    const began = performance.now()
    try {
      const { receipt } = await runPlan(scratch.target, plan, { mode: 'commit', actor, params })
      this.#retries += receipt.attempts - 1
      return this.#ended('committed', began)
    } catch (error) {
      if (!isProblem(error)) throw error
      const { attempts = 1 } = (error.facts['receipt'] ?? {}) as { attempts?: number }
      this.#retries += attempts - 1
      return this.#ended(error.code, began)
    }
  }

  /** The same for written code. */
  async runCode(code: CodeRun, pool: unknown): Promise<string> {
    const began = performance.now()
    const { outcome } = await answerOf(code.call(pool))
    return this.#ended(outcome, began)
  }

  #ended(outcome: string, began: number): string {
    if (outcome === 'committed') this.#committed++
    else this.#refusals[outcome] = (this.#refusals[outcome] ?? 0) + 1
    this.#latencies.push(performance.now() - began)
    this.done++
    return outcome
  }

  result(raceMs: number) {
    const sorted = this.#latencies.sort((one, other) => one - other)
    const at = (part: number) => roundMs(sorted[Math.ceil(sorted.length * part) - 1] ?? 0)
    return {
      committed: this.#committed,
      refused: this.done - this.#committed,
      refusals: this.#refusals,
      retries: this.#retries,
      latencyMs: { median: at(0.5), p95: at(0.95), most: at(1) },
      perSecond: Math.round((this.done / raceMs) * 1000),
    }
  }
}

/** Looks again and again whether one invariant holds. */
class Keeper {
  #after: string | null
  #broken: string | null = null
  #isBroken = false
  #checks = 0
  #isLooking = false

  private constructor(
    readonly scratch: ScratchDatabase,
    readonly invariant: Invariant,
    readonly before: string | null,
  ) {
    this.#after = before
  }

  static async begin(scratch: ScratchDatabase, invariant: Invariant): Promise<Keeper> {
    const before = await valueIn(scratch, invariant)
    if (invariant.isCondition && before !== 'true')
      throw new LedgermanProblem(
        'request-invalid',
        `invariant: ${invariant.source} does not hold in the rows that were copied, before anything is run. It is asked of these rows only.`,
        { where: 'keep' },
      )
    return new Keeper(scratch, invariant, before)
  }

  /** Looks while the runs go on, once at a time: a look that fails then says nothing. */
  async lookMeanwhile(): Promise<void> {
    if (this.#isLooking) return
    this.#isLooking = true
    await this.look().catch(() => undefined)
    this.#isLooking = false
  }

  /** @throws LedgermanProblem where it cannot be looked at */
  async look(): Promise<void> {
    const now = await valueIn(this.scratch, this.invariant)
    this.#checks++
    this.#after = now
    if (this.#isBroken || holds(this.invariant, this.before, now)) return
    this.#isBroken = true
    this.#broken = now
  }

  result(): RaceDrill['kept'][number] {
    const { source: expression, isCondition } = this.invariant
    const message = !this.#isBroken
      ? isCondition
        ? `true at every look`
        : `${this.before ?? 'null'} before and after`
      : isCondition
        ? 'was not true at every look'
        : `was ${this.before ?? 'null'}, became ${this.#broken ?? 'null'}, ended as ${this.#after ?? 'null'}`
    return { expression, before: this.before, after: this.#after, held: !this.#isBroken, checks: this.#checks, message }
  }
}

async function valueIn({ target }: ScratchDatabase, invariant: Invariant): Promise<string | null> {
  const { statement } = invariant
  try {
    return await valueOf(target, invariant)
  } catch (error) {
    throw target.explain(error, { slots: statement.slots, statement })
  }
}
