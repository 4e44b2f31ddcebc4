import type { RecordValues } from '@ledgerman/contract'
import type { Mapping } from '../../mapping/mapping.js'
import type { PlannedStep } from '../../plan/plan.js'
import type { Drilled } from '../scratch/observe-run.js'
import type { HistoryEvent } from './history.js'

/** A record that a run looked for in vain. */
export interface MissingRecord {
  mapping: Mapping
  key: RecordValues
}

/** One run in a schedule, however it is carried out. */
export interface Turning {
  readonly run: number
  /** Whether it waits for somebody else's lock. */
  readonly isWaiting: boolean
  readonly isOver: boolean
  /** The code of its refusal; null while it goes on, and where it was committed. */
  readonly refusal: string | null
  /** Records that it looked for in vain. */
  readonly missing: readonly MissingRecord[]
  /** Takes its turn: the next statement, or the commit. Resolves when that is done, or waits for somebody else's lock. */
  turn(): Promise<void>
  /** Resolves when the statement that runs is done, or is known by the server to wait for a lock. */
  settle(): Promise<void>
  /** Resolves when it is its own turn again, or it is over. */
  untilDone(): Promise<void>
}

/** Makes the lane of a run in a schedule; what it does is added to the events. */
export type MakeLane = (run: number, events: HistoryEvent[]) => Turning

/** The statements that take turns: each step, with what is only judged by what it brought. */
export function unitsOf({ plan }: Drilled): PlannedStep[][] {
  const units: PlannedStep[][] = []
  for (const step of plan.steps) {
    const last = units.at(-1)
    // A require looks at no row: it is no turn of its own.
    if (step.kind === 'require' && last) last.push(step)
    else units.push([step])
  }
  return units
}

/** How many turns a run takes, its commit among them. */
export function turnsOf(drilled: Drilled): number {
  return unitsOf(drilled).length + 1
}

/** Long enough for a statement that waits for nobody to be done mostly, in which case nobody is asked. */
export function aMoment(): Promise<void> {
  return new Promise((resolve) => setTimeout(resolve, 2))
}
