import type { FailedRow, JobReport, LedgermanProblem, LockHolder, RunMode } from '@ledgerman/contract'
import type { SlotSource, Slot } from '../statement/statement.js'

/** What a change of many rows is asked with, beside its shape. */
export interface BulkRequest {
  /** The job's id: no chunk of it takes effect twice. */
  job: string
  mode: RunMode
  actor: string
  note: string | null
  /** How long one statement may take, in milliseconds. */
  timeLimitMs: number
  /** What a rehearsal saw, where exactly that is to be committed. */
  rehearsed?: BulkEvidence | undefined
  signal: AbortSignal
  /** Asked just before it is committed: whether the job is still whose it was. Nobody else may have begun it anew. */
  isHeld?: (() => Promise<boolean>) | undefined
  onProgress: (progress: BulkProgress) => void
  onWait?: (holders: LockHolder[]) => void
}

export interface BulkProgress {
  phase: string
  rows: number
  total: number | null
}

/** What a rehearsal saw: how many rows were found, and a digest of what they were and were to be. */
export interface BulkEvidence {
  matched: number
  digest: string | null
}

/** What became of a job, or of a chunk of it. */
export interface BulkResult {
  report: JobReport
  evidence: BulkEvidence
  /** The id of the entry that it left. */
  entry: string | null
}

/** A job that leaves nothing behind: why, and which rows stood in its way. */
export class BulkRefused extends Error {
  override readonly name = 'BulkRefused'

  constructor(
    readonly problem: LedgermanProblem,
    readonly report: JobReport | null,
    /** Rows that were not applied, more than the report shows. */
    readonly failed: readonly FailedRow[] = [],
    /** The entry that says so in the book. */
    public entry: string | null = null,
  ) {
    super(problem.detail, { cause: problem })
  }
}

/** Gives the value of a slot that comes from what was asked: a parameter, a value. What stands in the text of an expression is there already. */
export type GivenValue = (source: SlotSource, slot: Slot) => string | null

/** Of a job that is asked with nothing beside its rows. */
export const nothingGiven: GivenValue = ({ from }) => {
  throw new TypeError(`nothing gives the value of ${from}`)
}

export function emptyReport(): JobReport {
  return { matched: 0, changed: 0, same: 0, added: 0, notFound: 0, ambiguous: 0, refused: 0, sample: [], rows: [] }
}

/** The most rows that were not applied, and that are shown as changed, in a report. */
const REPORT_ROWS = 100

/** The report of two parts of a job together. */
export function joinReports(one: JobReport, other: JobReport): JobReport {
  return {
    matched: one.matched + other.matched,
    changed: one.changed + other.changed,
    same: one.same + other.same,
    added: one.added + other.added,
    notFound: one.notFound + other.notFound,
    ambiguous: one.ambiguous + other.ambiguous,
    refused: one.refused + other.refused,
    sample: [...one.sample, ...other.sample].slice(0, REPORT_ROWS),
    rows: [...one.rows, ...other.rows].slice(0, REPORT_ROWS),
    ...joinBeside(one, other),
  }
}

/** What was written beside the rows of both. */
function joinBeside(one: JobReport, other: JobReport): Pick<JobReport, 'writtenWithIt' | 'notShown'> {
  const counted = [one.writtenWithIt, other.writtenWithIt].filter((each) => each !== undefined)
  const byTable = new Map<string, NonNullable<JobReport['writtenWithIt']>[number]>()
  for (const each of counted.flat()) {
    const { added = 0, changed = 0, removed = 0 } = byTable.get(each.table) ?? {}
    byTable.set(each.table, {
      table: each.table,
      added: added + each.added,
      changed: changed + each.changed,
      removed: removed + each.removed,
    })
  }
  const words = new Set([...(one.notShown ?? []), ...(other.notShown ?? [])])
  return {
    ...(counted.length > 0 ? { writtenWithIt: [...byTable.values()] } : {}),
    ...(words.size > 0 ? { notShown: [...words] } : {}),
  }
}
