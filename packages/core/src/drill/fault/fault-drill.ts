import {
  FAULT_KINDS,
  LedgermanProblem,
  printJson,
  type DrilledRun,
  type FaultDrill,
  type FaultInput,
  type FaultKind,
  type FaultResult,
  type RowDifference,
} from '@ledgerman/contract'
import type { RunHooks } from '../../run/steps/run-request.js'
import { drilledPlan, type Definitions } from '../drilled-plan.js'
import type { DrillOptions } from '../drill-options.js'
import { volatileColumns, type Volatile } from '../volatile.js'
import { observeRun, type Drilled } from '../scratch/observe-run.js'
import { inScratch } from '../scratch/in-scratch.js'
import type { ScratchDatabase, ScratchSource } from '../scratch/scratch-database.js'
import { isSame, keyColumns, readRow, toRowDifference, type SnapshotDifference } from '../scratch/snapshot.js'
import { carrierOf, type Carrier } from './carriers.js'
import { faultsFor, type Fault } from './faults.js'
import type { Interference } from './other-session.js'

const SHORT_LOCK_WAIT_MS = 200
const SHORT_TIME_MS = 400

/** One run's result, and what the rows and the book say of it. */
interface Told {
  outcome: string
  detail: string | null
  differing: SnapshotDifference[]
  /** Null where it is not booked at all. */
  isBooked: boolean | null
}

/**
 * Runs a transaction once undisturbed and once under each fault, and looks from a fresh session afterwards what differs, row by
 * row, and whether that is what the caller was told.
 *
 * @throws LedgermanProblem scratch-unavailable, definition-invalid, request-invalid, cancelled
 */
export async function drillFaults(
  source: ScratchSource,
  input: FaultInput,
  definitions: Definitions,
  { signal, onProgress, tools }: DrillOptions = {},
): Promise<FaultDrill> {
  const started = performance.now()
  const run = runOf(input)
  const drilled = await drilledPlan(source.target, run, definitions, { observes: true })
  return inScratch(source, [drilled], { signal }, async (scratch, onEnd) => {
    const variant = (more: object = {}) => drilledPlan(scratch.target, run, definitions, { retries: true, ...more })
    const plans: Record<Fault['limits'], Drilled> = {
      own: await variant(),
      'short lock wait': await variant({ lockWaitMs: SHORT_LOCK_WAIT_MS }),
      'short time': await variant({ timeLimitMs: SHORT_TIME_MS }),
    }
    const carrier = await carrierOf(scratch, plans, input.code, tools)
    onEnd(carrier.end)
    const observed = await observeRun(scratch.target, plans.own)
    // What was only looked at took numbers too.
    await scratch.reset([])
    const began = performance.now()
    const first = await tellRun(scratch, carrier, 'own')
    const undisturbedMs = performance.now() - began
    await scratch.reset(first.differing)
    const again = await tellRun(scratch, carrier, 'own')
    await scratch.reset(again.differing)
    const judge = new Judge(first, volatileColumns(first.differing, again.differing))
    const kinds = new Set(input.faults.includes('all') ? FAULT_KINDS : (input.faults as FaultKind[]))
    const faults = faultsFor(plans.own, kinds, observed)
    const results: FaultResult[] = []
    for (const fault of faults) {
      if (signal?.aborted) throw new LedgermanProblem('cancelled', 'The caller went away, so the drill was stopped.')
      results.push(await tryFault(scratch, fault, carrier, judge))
      onProgress?.(results.length, faults.length, fault.name)
    }
    const notRun = whyNotRun(first)
    return {
      kind: 'fault',
      of: input.code ? 'code' : 'definition',
      passed: notRun === null && results.every(({ agrees, staged }) => agrees && staged),
      notRun,
      undisturbed: { fault: 'none', ...judge.undisturbed(), durationMs: Math.round(undisturbedMs) },
      results,
      scratch: scratch.info,
      durationMs: Math.round(performance.now() - started),
    }
  })
}

function runOf({ run, transaction, params }: FaultInput): DrilledRun {
  if (run && transaction === undefined) return run
  if (!run && transaction !== undefined) return { transaction, ...(params ? { params } : {}) }
  throw new LedgermanProblem('request-invalid', 'Name a transaction, or give a run, and not both.', {
    where: 'transaction',
  })
}

async function tryFault(scratch: ScratchDatabase, fault: Fault, carrier: Carrier, judge: Judge): Promise<FaultResult> {
  const began = performance.now()
  let other: Interference | undefined
  const { hooks, end } = await fault.stage(scratch, (done) => (other = done))
  const told = await tellRun(scratch, carrier, fault.limits, hooks, end)
  const durationMs = Math.round(performance.now() - began)
  await scratch.reset(told.differing)
  return { fault: fault.name, ...judge.disturbed(told, other), durationMs }
}

/** Runs it to commit, as any caller does, then looks from a session that had no part in it. */
async function tellRun(
  scratch: ScratchDatabase,
  carrier: Carrier,
  limits: Fault['limits'],
  hooks: RunHooks = {},
  end?: () => Promise<void>,
): Promise<Told> {
  const carried = await carrier.run(limits, hooks).finally(() => end?.())
  return { ...carried, differing: await scratch.differing() }
}

/** A run that is refused whatever happens has no commit that a fault could spoil. */
function whyNotRun({ outcome, detail }: Told): string | null {
  return outcome === 'committed' ? null : `Undisturbed it is refused in the scratch database: ${outcome}: ${detail}`
}

/** Says of each run whether what the caller was told, the rows and the book agree. */
class Judge {
  readonly #whole: ReadonlyMap<string, string>

  constructor(
    readonly first: Told,
    readonly volatile: Volatile,
  ) {
    this.#whole = this.#images(first.differing)
  }

  undisturbed(): Omit<FaultResult, 'fault' | 'durationMs'> {
    const { outcome, detail, differing, isBooked } = this.first
    const isCommitted = outcome === 'committed'
    return {
      outcome,
      differing: shown(differing),
      staged: true,
      agrees: isBooked !== !isCommitted && (isCommitted || differing.length === 0),
      message: isCommitted ? `committed, ${rowsWord(differing.length)} written` : `refused: ${detail}`,
    }
  }

  disturbed(told: Told, other: Interference | undefined): Omit<FaultResult, 'fault' | 'durationMs'> {
    const { outcome, detail, isBooked } = told
    const differing = withoutOther(told.differing, other)
    const isCommitted = outcome === 'committed'
    const staged = !other || !('prevented' in other) || other.isByRun
    const result = (agrees: boolean, message: string) => ({
      outcome,
      differing: shown(differing),
      staged,
      agrees,
      message,
    })
    if (outcome === 'outcome-unknown') return this.#unknown(told, differing, result)
    const prevented = other && 'prevented' in other ? `Could not be staged: ${other.prevented}. ` : ''
    if (!isCommitted) {
      if (differing.length > 0)
        return result(false, `The caller was told ${outcome}, and ${rowsWord(differing.length)} differ.`)
      if (isBooked) return result(false, `The caller was told ${outcome}, and the book has it as committed.`)
      return result(true, `${prevented}${detail ?? 'Nothing was changed.'}`)
    }
    if (isBooked === false) return result(false, 'The caller was told committed, and the book has no such entry.')
    if (this.first.outcome !== 'committed') return result(false, 'Committed, which undisturbed it is not.')
    const lost = other && 'difference' in other ? this.#overwritten(told.differing, other) : null
    if (lost) return result(false, `Committed, and what another had changed in between is lost: ${lost}.`)
    const images = this.#images(told.differing)
    const missing = this.#missing(images, told.differing, other)
    if (missing.length > 0) return result(false, `Committed, and only in part: ${missing.join('; ')} is as before.`)
    if ((!other || 'prevented' in other) && !isSameMap(images, this.#whole))
      return result(false, 'Committed, with other values than undisturbed.')
    return result(true, `${prevented}Committed as a whole, as the caller was told.`)
  }

  /**
   * The rows that the undisturbed run wrote and this one did not. What it added may say other things where somebody else changed what it was made
   * from: then as many have to be there.
   */
  #missing(
    images: ReadonlyMap<string, string>,
    differing: readonly SnapshotDifference[],
    other: Interference | undefined,
  ) {
    const missing = [...this.#whole.keys()].filter((row) => !images.has(row))
    if (missing.length === 0 || !other || 'prevented' in other) return missing
    const [here, alone] = [addedTo(differing), addedTo(this.first.differing)]
    const hasAll = ({ table }: SnapshotDifference) => (here.get(table.path) ?? 0) >= (alone.get(table.path) ?? 0)
    const excused = new Set(
      this.#images(this.first.differing.filter((each) => each.before === null && hasAll(each))).keys(),
    )
    return missing.filter((row) => !excused.has(row))
  }

  /** The caller was told that nobody knows: then it was done as a whole, or not at all. */
  #unknown<T>(
    { isBooked }: Told,
    differing: readonly SnapshotDifference[],
    result: (agrees: boolean, message: string) => T,
  ): T {
    const isWhole = isSameMap(this.#images(differing), this.#whole)
    const agrees = differing.length === 0 ? isBooked !== true : isWhole && isBooked !== false
    const what =
      differing.length === 0
        ? 'nothing was changed'
        : isWhole
          ? 'it was committed as a whole'
          : 'it was committed in part'
    return result(agrees, `The caller was told that it is not known; ${what}.`)
  }

  /** The column that another changed and that has the undisturbed run's value now, as if nobody had. */
  #overwritten(
    differing: readonly SnapshotDifference[],
    { difference, column }: { difference: SnapshotDifference; column: string | null },
  ): string | null {
    const theirRow = rowKey(difference)
    const isTheirs = (each: SnapshotDifference) => each.table === difference.table && rowKey(each) === theirRow
    const now = differing.find(isTheirs)
    const alone = this.first.differing.find(isTheirs)
    if (difference.after === null) return now && now.after !== null ? 'the row is there again' : null
    const [before, theirs, ours, whole] = [difference.before, difference.after, now?.after, alone?.after].map((json) =>
      readRow(json ?? null),
    )
    if (!before || !theirs || !ours || !whole || column === null) return null
    const isLost = isSame(ours[column], whole[column]) && !isSame(ours[column], theirs[column])
    return isLost ? column : null
  }

  #images(differing: readonly SnapshotDifference[]): Map<string, string> {
    return new Map(
      differing.map((each) => {
        const { table, key, after } = toRowDifference(each)
        const hidden = this.volatile.get(table)
        const isAdded = each.before === null
        const kept = after && Object.entries(after).filter(([name]) => !hidden?.has(name) && !(isAdded && name in key))
        return [isAdded ? `${table} ${printJson(kept)}` : `${table} ${printJson(key)}`, printJson(kept)]
      }),
    )
  }
}

/** How many rows were added to each table. */
function addedTo(differing: readonly SnapshotDifference[]): Map<string, number> {
  const added = new Map<string, number>()
  for (const { table, before } of differing)
    if (before === null) added.set(table.path, (added.get(table.path) ?? 0) + 1)
  return added
}

function withoutOther(differing: readonly SnapshotDifference[], other: Interference | undefined): SnapshotDifference[] {
  if (!other || !('difference' in other)) return [...differing]
  const { difference } = other
  const theirs = rowKey(difference)
  return differing.flatMap((each) => {
    if (each.table !== difference.table || rowKey(each) !== theirs) return [each]
    return each.after === difference.after ? [] : [{ ...each, before: difference.after }]
  })
}

function rowKey({ table, before, after }: SnapshotDifference): string {
  const row = readRow(before ?? after) ?? {}
  return printJson(keyColumns(table).map((name) => row[name]))
}

function shown(differing: readonly SnapshotDifference[]): RowDifference[] {
  return differing.map(toRowDifference)
}

function rowsWord(count: number): string {
  return count === 1 ? 'one row' : `${count} rows`
}

function isSameMap(one: ReadonlyMap<string, string>, other: ReadonlyMap<string, string>): boolean {
  return one.size === other.size && [...one].every(([key, value]) => other.get(key) === value)
}
