import {
  parsePrinted,
  type Images,
  type Job,
  type JobInput,
  type JobKind,
  type JobProgress,
  type JobReport,
  type JobState,
  type OnMissing,
  type ProblemDocument,
  type RunMode,
} from '@ledgerman/contract'
import type { BulkEvidence } from '@ledgerman/core'

/** All that a job needs to be run by whichever service takes it. */
export type JobRequest =
  | { kind: 'filter'; input: JobInput; rehearsed: BulkEvidence | null; subject: string }
  | {
      kind: 'reversal'
      /** Ids, the newest first. */
      entries: string[]
      onlyUnchanged: boolean
      rehearsed: BulkEvidence[] | null
      subject: string
    }
  | {
      kind: 'file'
      form: 'csv' | 'ndjson'
      delimiter: string
      /** The names of the columns, as they stand in the file. */
      names: string[]
      guard: string | null
      onMissing: OnMissing
      images: Images
      chunk: number | null
      rehearsed: BulkEvidence | null
      subject: string
    }

export interface NewJob {
  id: string
  target: string
  mapping: string
  revision: number
  mode: RunMode
  actor: string
  note: string | null
  condition: string | null
  rows: number | null
  request: JobRequest
  /** A request that takes effect once: its Idempotency-Key, and a digest of all it asks. */
  once?: { key: string; digest: string } | undefined
}

/** A job as its runner has it. */
export interface ClaimedJob extends NewJob {
  chunksDone: number
  failures: number
  report: JobReport | null
  entries: string[]
  /** Whether it was cancelled while nobody ran it. */
  isCancelAsked: boolean
  /** Whether it may have committed more than is known here. */
  isInDoubt: boolean
}

/** A job as its table has it. */
export interface JobRow {
  id: string
  target: string
  mapping: string
  revision: number
  kind: JobKind
  mode: RunMode
  state: JobState
  actor: string
  note: string | null
  condition: string | null
  request: string
  rows: string | null
  created_at: Date
  started_at: Date | null
  ended_at: Date | null
  failures: number
  cancel_asked: boolean
  in_doubt: boolean
  chunks_done: number
  progress: string | null
  report: string | null
  entries: string[]
  rehearsal: string | null
  problem: string | null
}

/** What is selected to make a row. */
export const JOB_COLUMNS =
  'id, target, mapping, revision, kind, mode, state, actor, note, condition, request::text, rows, created_at, started_at, ended_at, failures, cancel_asked, in_doubt, chunks_done, progress::text, report::text, entries, rehearsal, problem::text'

/** A row as its runner takes it. */
export function toClaimed(row: JobRow): ClaimedJob {
  const { id, target, mapping, revision, mode, actor, note, condition, entries, failures } = row
  return {
    id,
    target,
    mapping,
    revision,
    mode,
    actor,
    note,
    condition,
    rows: row.rows === null ? null : Number(row.rows),
    request: parsePrinted(row.request) as unknown as JobRequest,
    chunksDone: row.chunks_done,
    failures,
    report: row.report === null ? null : (parsePrinted(row.report) as unknown as JobReport),
    entries,
    isCancelAsked: row.cancel_asked,
    isInDoubt: row.in_doubt,
  }
}

/** A row as it is told to callers. */
export function toJob(row: JobRow): Job {
  const total = row.rows === null ? null : Number(row.rows)
  return {
    id: row.id,
    target: row.target,
    mapping: row.mapping,
    kind: row.kind,
    mode: row.mode,
    state: row.state,
    actor: row.actor,
    note: row.note,
    condition: row.condition,
    startedAt: row.started_at?.toISOString() ?? null,
    endedAt: row.ended_at?.toISOString() ?? null,
    progress:
      row.progress === null
        ? { rows: 0, total, perSecond: null, remainingMs: null, chunk: null, phase: null }
        : (JSON.parse(row.progress) as JobProgress),
    entries: row.entries,
    rehearsal: row.rehearsal,
    report: row.report === null ? null : (parsePrinted(row.report) as unknown as JobReport),
    problem: row.problem === null ? null : (parsePrinted(row.problem) as unknown as ProblemDocument),
  }
}
