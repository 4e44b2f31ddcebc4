import type { DrillClock } from '../clock.js'
import type { Drilled } from '../scratch/observe-run.js'
import type { ScratchDatabase } from '../scratch/scratch-database.js'
import { volatileColumns, type Volatile } from '../volatile.js'
import type { Trial } from './history.js'
import type { Serial } from './judge.js'
import { runSchedule, type TriedSchedule } from './run-schedule.js'
import { permutations, type Schedule } from './schedules.js'
import { turnsOf, type MakeLane } from './turns.js'

/** The committed runs one after another, in every order: each order is run once, when it is first asked for. */
export class SerialOrders {
  readonly #known = new Map<string, Serial>()
  volatile: Volatile = new Map()

  constructor(
    readonly scratch: ScratchDatabase,
    readonly drilled: readonly Drilled[],
    readonly lanes: (volatile: Volatile) => MakeLane,
    readonly clock: DrillClock,
  ) {}

  /** Runs one order twice, to see what a clock or chance decides. */
  async prepare(): Promise<TriedSchedule> {
    const order = this.drilled.map((_, run) => run)
    const once = await this.#run(order)
    const again = await this.#run(order)
    this.volatile = volatileColumns(once.differing, again.differing, this.clock)
    return once
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
    return runSchedule(this.scratch, this.drilled, this.lanes(this.volatile), schedule, this.volatile, this.clock)
  }
}
