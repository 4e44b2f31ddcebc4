import { printJson, type Anomaly, type InterleavingDrill, type ScheduleStep } from '@ledgerman/contract'
import { toRowDifference } from '../scratch/snapshot.js'
import type { Trial } from './history.js'
import { nameOfRun } from '../of-run.js'
import { judge, type Serial } from './judge.js'
import type { TriedSchedule } from './run-schedule.js'

/** What came of all schedules at one level and with one guard. */
export class Cell {
  #tried = 0
  #committed = 0
  readonly #refusals: Record<string, number> = {}
  readonly #anomalies = new Map<string, Anomaly>()

  constructor(
    readonly isolation: string,
    readonly guard: string,
  ) {}

  /** @param serials what to compare it with; null for a schedule that is one of them itself */
  count({ trial, differing }: TriedSchedule, serials: readonly Serial[] | null): void {
    this.#tried++
    if (trial.refusals.every((refusal) => refusal === null)) this.#committed++
    for (const refusal of trial.refusals)
      if (refusal !== null) this.#refusals[refusal] = (this.#refusals[refusal] ?? 0) + 1
    const verdict = serials && judge(trial, serials)
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
  return events.map(({ run, step, kind, message, action, rows }) => ({
    run: nameOfRun(run),
    step,
    kind,
    message,
    action,
    reads: rows.flatMap(({ mapping, key, before, isWritten }) =>
      isWritten || before === null ? [] : [{ mapping, key, values: before }],
    ),
    writes: rows.flatMap(({ mapping, key, before, after, isWritten }) => {
      if (!isWritten) return []
      const names = Object.keys(before ?? after ?? {}).filter(
        (name) => !before || !after || printJson(before[name]) !== printJson(after[name]),
      )
      const pick = (row: typeof before) => row && Object.fromEntries(names.map((name) => [name, row[name]]))
      return [{ mapping, key, before: pick(before), after: pick(after) }]
    }),
  }))
}
