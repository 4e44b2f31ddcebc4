import { nameOfRun } from '../of-run.js'
import { printJson } from '@ledgerman/contract'
import type { HistoryEvent, SeenRow, Trial } from './history.js'

/** What an order of whole runs, one after another, gives. */
export interface Serial {
  order: readonly number[]
  trial: Trial
}

export interface Verdict {
  name: string
  message: string
}

/**
 * Whether a schedule is as good as its committed runs one after another, in any order: the same rows in the end, and the same
 * values read by each. Where it is not, by which name that is known.
 *
 * The names are those of Berenson et al., "A Critique of ANSI SQL Isolation Levels" (1995), and of Fekete, O'Neil and O'Neil, "A
 * Read-Only Transaction Anomaly Under Snapshot Isolation" (2004).
 *
 * @param serials every order of the committed runs.
 * @returns null where it is serializable.
 */
export function judge(trial: Trial, serials: readonly Serial[]): Verdict | null {
  const committed = trial.refusals.flatMap((refusal, run) => (refusal === null ? [run] : []))
  const fitting = serials.filter(({ order, trial: serial }) => order.every((run) => serial.refusals[run] === null))
  const sameRows = fitting.filter(({ trial: serial }) => isSameMap(trial.final, serial.final))
  if (sameRows.some(({ trial: serial }) => committed.every((run) => readsOf(trial, run) === readsOf(serial, run))))
    return null
  return nameOf(trial, committed, fitting, sameRows.length > 0)
}

function nameOf(
  trial: Trial,
  committed: readonly number[],
  serials: readonly Serial[],
  endsAsInOrder: boolean,
): Verdict {
  const runs = committed.map((run) => new RunHistory(trial, run))
  const pairs = runs.flatMap((one) => runs.flatMap((other) => (one === other ? [] : [[one, other] as const])))
  for (const [one, other] of pairs) {
    const lost = lostUpdate(one, other, endsAsInOrder)
    if (lost)
      return {
        name: 'lost update',
        message: `${one.name} overwrote what ${other.name} had committed to ${lost} after ${one.name} read it.`,
      }
  }
  if (endsAsInOrder)
    for (const one of runs) {
      const twice = one.readTwice()
      if (twice)
        return {
          name: 'non-repeatable read',
          message: `${one.name} read ${twice} twice and saw two different states of it.`,
        }
      const phantom = one.phantom()
      if (phantom)
        return { name: 'phantom', message: `${one.name} asked for the same ${phantom} twice and found different rows.` }
    }
  for (const [one, other] of pairs) {
    const missedBy = (run: RunHistory, writer: RunHistory) =>
      run.readBefore(writer) ?? missed(trial, serials, run, writer)
    const [unseen, unseenToo] = [missedBy(one, other), missedBy(other, one)]
    if (unseen && unseenToo)
      return {
        name: 'write skew',
        message: `${one.name} did not see what ${other.name} wrote to ${unseen}, nor ${other.name} what ${one.name} wrote to ${unseenToo}.`,
      }
  }
  const reader = runs.find((one) => one.writes.length === 0)
  if (endsAsInOrder && reader && runs.length > 2 && !runs.some((one) => one !== reader && reader.sawPartOf(one)))
    return {
      name: 'read-only anomaly',
      message: `${reader.name}, which only reads, saw a state that no order of the others passes through.`,
    }
  for (const [one, other] of pairs)
    if (one.sawPartOf(other) || sawPart(trial, serials, one, other))
      return {
        name: 'read skew',
        message: `${one.name} saw some of what ${other.name} wrote, and some rows as they were before.`,
      }
  return { name: 'not serializable', message: 'No order of the committed runs gives these rows and these values read.' }
}

/**
 * The first row of what a run did not see of another's, although it looked: it read what it reads before all others, and right after the
 * other it reads something else. Whichever way the rows that it looked for lead to what the other wrote, that shows it.
 */
function missed(trial: Trial, serials: readonly Serial[], one: RunHistory, other: RunHistory): string | undefined {
  const [first, after] = aroundOf(serials, one, other)
  if (!first || !after || one.writesUnseen || other.writesUnseen) return undefined
  const reads = readsOf(trial, one.run)
  if (reads !== readsOf(first, one.run) || reads === readsOf(after, one.run)) return undefined
  // Where both write a row, that it was overwritten may be all there is to it.
  const own = new Set(one.writes.map(({ row }) => row.item))
  return other.writes.some(({ row }) => own.has(row.item)) ? undefined : other.writes[0]?.row.label
}

/** Whether a run read at one step as it does before all others, and at another as it does right after the other run. */
function sawPart(trial: Trial, serials: readonly Serial[], one: RunHistory, other: RunHistory): boolean {
  const [first, after] = aroundOf(serials, one, other)
  if (!first || !after) return false
  const [before, since] = [readsByStep(first, one.run), readsByStep(after, one.run)]
  const like = readsByStep(trial, one.run).flatMap((reads, at) => {
    if (before[at] === since[at]) return []
    return reads === before[at] ? ['before'] : reads === since[at] ? ['since'] : []
  })
  return new Set(like).size === 2
}

/** The order in which a run goes before all others, and one in which it follows the other at once. */
function aroundOf(serials: readonly Serial[], one: RunHistory, other: RunHistory): (Trial | undefined)[] {
  return [
    serials.find(({ order }) => order[0] === one.run)?.trial,
    serials.find(({ order }) => order[0] === other.run && order[1] === one.run)?.trial,
  ]
}

/** What one committed run did in a schedule, in order. */
class RunHistory {
  readonly name: string
  readonly #events: { at: number; event: HistoryEvent }[]
  readonly commitAt: number
  readonly hasSnapshot: boolean

  constructor(
    trial: Trial,
    readonly run: number,
  ) {
    this.name = nameOfRun(run)
    this.hasSnapshot = trial.hasSnapshot[run] ?? false
    this.#events = trial.events.flatMap((event, at) => (event.run === run ? [{ at, event }] : []))
    this.commitAt = this.#events.find(({ event }) => event.step === 'commit')?.at ?? Infinity
  }

  /** Whether it has a step that writes rows nobody knows. */
  get writesUnseen(): boolean {
    return this.#events.some(({ event }) => event.writesUnseen)
  }

  /** From when the rows are that a statement at this place sees. */
  #viewAt(at: number): number {
    return this.hasSnapshot ? (this.#events[0]?.at ?? at) : at
  }

  /** Rows that were read by a load, with the place in the schedule. */
  get loads(): { at: number; row: SeenRow }[] {
    return this.#events.flatMap(({ at, event }) =>
      event.kind === 'load' ? event.rows.map((row) => ({ at, row })) : [],
    )
  }

  get writes(): { at: number; row: SeenRow }[] {
    return this.#events.flatMap(({ at, event }) => event.rows.flatMap((row) => (row.isWritten ? [{ at, row }] : [])))
  }

  /** Every row that was written, or would have been, had it not had these values already. */
  get saves(): { at: number; row: SeenRow }[] {
    return this.#events.flatMap(({ at, event }) =>
      ['change', 'replace', 'remove'].includes(event.kind) ? event.rows.map((row) => ({ at, row })) : [],
    )
  }

  /** The first row that this run read, or looked for in vain, before the other's write of it, which it never saw. */
  readBefore(other: RunHistory): string | undefined {
    return other.writes.find(({ row }) => {
      const seen = this.loads.filter((load) => load.row.item === row.item)
      if (seen.length > 0) return seen.some((load) => isAsBefore(load.row, row))
      if (this.writes.some((own) => own.row.item === row.item)) return false
      return this.#events.some(
        ({ at, event }) =>
          event.isByCondition &&
          event.mapping === row.mapping &&
          this.#viewAt(at) < other.commitAt &&
          row.before === null,
      )
    })?.row.label
  }

  /** Whether this run saw some of the other's writes and some rows as they were before them. */
  sawPartOf(other: RunHistory): boolean {
    const told = other.writes.flatMap(({ row }) =>
      this.loads.flatMap(({ row: own }) => (own.item === row.item ? [isSeen(own, row)] : [])),
    )
    return told.includes(true) && (told.includes(false) || this.readBefore(other) !== undefined)
  }

  readTwice(): string | undefined {
    const states = new Map<string, string>()
    for (const { event } of this.#events)
      for (const { item, label, before, isWritten, after } of event.rows) {
        const known = states.get(item)
        const state = before && printJson(before)
        if (known !== undefined && state !== null && known !== state) return label
        const now = isWritten ? after && printJson(after) : state
        if (now !== null) states.set(item, now)
      }
    return undefined
  }

  phantom(): string | undefined {
    const asked = new Map<string, string>()
    const own = new Set(this.writes.map(({ row }) => row.item))
    for (const { event } of this.#events) {
      if (event.kind !== 'load' || !event.isByCondition) continue
      const found = event.rows
        .map(({ item }) => item)
        .filter((item) => !own.has(item))
        .sort()
        .join('\n')
      const question = event.message
      if (asked.has(question) && asked.get(question) !== found) return event.rows[0]?.mapping ?? 'rows'
      asked.set(question, found)
    }
    return undefined
  }
}

/**
 * The row that `one` read, `other` then changed and committed, and `one` then wrote: lost where what `one` wrote does not come from
 * the row as `other` left it, or where the rows end as in no order.
 */
function lostUpdate(one: RunHistory, other: RunHistory, endsAsInOrder: boolean): string | undefined {
  for (const { at: wroteAt, row } of one.saves) {
    if (row.before === null) continue
    const load = one.loads.findLast((each) => each.row.item === row.item && each.at < wroteAt)
    if (!load) continue
    const between = other.writes.filter(
      (write) =>
        write.row.item === row.item && write.at < wroteAt && other.commitAt > load.at && !isSeen(load.row, write.row),
    )
    const isLost = endsAsInOrder ? between.some((write) => isOverwritten(write.row, row.blind)) : between.length > 0
    if (isLost && other.commitAt < wroteAt) return row.label
  }
  return undefined
}

/** Whether one of these properties is among those that a write changed. */
function isOverwritten({ before, after }: SeenRow, by: readonly string[]): boolean {
  if (before === null || after === null) return by.length > 0
  return by.some((name) => printJson(before[name] ?? null) !== printJson(after[name] ?? null))
}

/** Whether what was read shows the row as it was written. */
function isSeen(read: SeenRow, written: SeenRow): boolean {
  return written.after !== null && read.before !== null && printJson(read.before) === printJson(written.after)
}

/** Whether what was read is the row as it was before that write. */
function isAsBefore(read: SeenRow, written: SeenRow): boolean {
  return written.before !== null && read.before !== null && printJson(read.before) === printJson(written.before)
}

/** Every value a run read, and how many rows each of its steps matched: what its decisions were made on. */
function readsOf(trial: Trial, run: number): string {
  return readsByStep(trial, run).join('\n')
}

function readsByStep({ events }: Trial, run: number): string[] {
  return events
    .filter((event) => event.run === run && event.action !== 'waits' && event.step !== 'commit')
    .map(({ step, matched, rows }) =>
      printJson([
        step,
        matched,
        rows
          .filter(({ before }) => before !== null)
          .map(({ counterpart, before }) => `${counterpart} ${printJson(before)}`)
          .sort(),
      ]),
    )
}

function isSameMap(one: ReadonlyMap<string, string>, other: ReadonlyMap<string, string>): boolean {
  return one.size === other.size && [...one].every(([key, value]) => other.get(key) === value)
}
