import type { Session } from '../../sessions/session-pool.js'
import type { DrillClock } from '../clock.js'
import type { ProofTools } from '../prove/proof-tools.js'
import type { Drilled } from '../scratch/observe-run.js'
import type { ScratchDatabase } from '../scratch/scratch-database.js'
import type { Volatile } from '../volatile.js'
import { CodeLane } from '../written/code-lane.js'
import { codeRunOf, type CodeForm, type CodeRun } from '../written/code-run.js'
import { Lane } from './lane.js'
import type { MakeLane } from './turns.js'

/** Makes the lanes of schedules: runs of the core, or of the code that is written for them. */
export class LaneMaker {
  readonly #codes = new Map<readonly Drilled[], CodeRun[]>()
  #pool: unknown

  constructor(
    readonly scratch: ScratchDatabase,
    readonly sessions: readonly Session[],
    readonly clock: DrillClock,
  ) {}

  get isByCode(): boolean {
    return this.#codes.size > 0
  }

  /**
   * Has the code of all variants written and compiled, and its lanes made from now on.
   *
   * @returns what ends its sessions.
   * @throws LedgermanProblem request-invalid where there is no code for a run
   */
  async byCode(
    variants: readonly { drilled: readonly Drilled[] }[],
    form: CodeForm,
    tools: ProofTools | undefined,
  ): Promise<() => Promise<void>> {
    if (!tools) throw new TypeError('written code is drilled with tools that compile it')
    for (const { drilled } of variants) {
      const codes = []
      for (const each of drilled) codes.push(await codeRunOf(this.scratch.target, each, form, tools, true))
      this.#codes.set(drilled, codes)
    }
    const { pool, end } = tools.pool(this.scratch.url)
    this.#pool = pool
    return end
  }

  of(drilled: readonly Drilled[], volatile: Volatile): MakeLane {
    const codes = this.#codes.get(drilled)
    if (!codes) return this.byCore(drilled, volatile)
    return (run, events) => new CodeLane(run, this.scratch, codes[run] as CodeRun, this.#pool, events)
  }

  byCore(drilled: readonly Drilled[], volatile: Volatile): MakeLane {
    return (run, events) =>
      new Lane(run, this.scratch, this.sessions[run] as Session, drilled[run] as Drilled, volatile, this.clock, events)
  }
}
