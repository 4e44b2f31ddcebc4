import { keyColumns, readRow, type SnapshotDifference } from '../scratch/snapshot.js'
import type { Drilled } from '../scratch/observe-run.js'
import type { ScratchDatabase } from '../scratch/scratch-database.js'
import { printJson } from '@ledgerman/contract'
import type { HistoryEvent, Trial } from './history.js'
import type { Table } from '../../mapping/catalogue/table.js'
import type { DrillClock } from '../clock.js'
import { isByChance, type Volatile } from '../volatile.js'
import type { MakeLane, MissingRecord, Turning } from './turns.js'
import type { Schedule } from './schedules.js'

/** A trial, and what the rows were like after it. */
export interface TriedSchedule {
  trial: Trial
  differing: SnapshotDifference[]
  /** Records that were looked for in vain. */
  missing: MissingRecord[]
}

/**
 * Runs one schedule on real connections, and puts the rows back. A run whose turn it is while it waits for a lock passes; what is
 * left when all turns were taken goes on in order.
 *
 * @param makeLane how a run is carried out.
 */
export async function runSchedule(
  scratch: ScratchDatabase,
  drilled: readonly Drilled[],
  makeLane: MakeLane,
  schedule: Schedule,
  volatile: Volatile,
  clock: DrillClock,
): Promise<TriedSchedule> {
  const events: HistoryEvent[] = []
  const taking = new Set(schedule)
  const lanes = drilled.map((_, run) => makeLane(run, events))
  const turn = async (lane: Turning) => {
    await lane.turn()
    // Locks are held until a transaction ends: only an end, or one more that waits, lets another go on or breaks it off.
    if (!lane.isOver && !lane.isWaiting) return
    for (const other of lanes) if (other !== lane && other.isWaiting) await other.settle()
  }
  for (const run of schedule) {
    const lane = lanes[run] as Turning
    if (!lane.isWaiting) await turn(lane)
  }
  for (;;) {
    const left = lanes.filter((lane) => taking.has(lane.run) && !lane.isOver)
    if (left.length === 0) break
    const free = left.find((lane) => !lane.isWaiting)
    if (free) await turn(free)
    else {
      // Each waits for another: the server breaks one of them off.
      await Promise.race(left.map((lane) => lane.untilDone()))
      for (const lane of left) if (lane.isWaiting) await lane.settle()
    }
  }
  const differing = await scratch.differing()
  await scratch.reset(differing)
  const hasSnapshot = drilled.map(({ plan }) => plan.isolation !== 'read committed')
  const refusals = lanes.map((lane) => (taking.has(lane.run) ? lane.refusal : 'not run'))
  return {
    trial: { events, refusals, hasSnapshot, final: finalRows(differing, volatile, clock) },
    differing,
    missing: lanes.flatMap((lane) => lane.missing),
  }
}

/** The rows that differ, each by its key; one that was added by what it holds, since chance gave it its number. */
function finalRows(
  differing: readonly SnapshotDifference[],
  volatile: Volatile,
  clock: DrillClock,
): Map<string, string> {
  const final = new Map<string, string>()
  for (const { table, before, after } of differing) {
    const hidden = volatile.get(table.path)
    const row = readRow(after)
    const isAdded = before === null
    const shown =
      row &&
      Object.fromEntries(
        Object.entries(row)
          .filter(([name]) => !hidden?.has(name) && !(isAdded && isNumbered(table, name)))
          .map(([name, value]) => [name, clock.without(value)]),
      )
    const text = printJson(shown)
    const key = keyColumns(table).map((name) => (readRow(before ?? after) ?? {})[name])
    let id = `${table.path} ${isAdded ? text : printJson(key)}`
    while (final.has(id)) id += '+'
    final.set(id, text)
  }
  return final
}

function isNumbered({ columns }: Table, name: string): boolean {
  const column = columns.find((each) => each.name === name)
  return column !== undefined && isByChance(column)
}
