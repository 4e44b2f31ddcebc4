import { LedgermanProblem, type FailedRow } from '@ledgerman/contract'
import {
  asItIs,
  BulkRefused,
  emptyReport,
  findBookedPart,
  isRefusal,
  joinReports,
  readColumns,
  resolveFilterJob,
  reverseEntries,
  runFileJob,
  runFilterJob,
  type BulkRequest,
  type BulkResult,
  type Mapping,
  type Target,
} from '@ledgerman/core'
import type { JobDone, JobParts } from './job-parts.js'
import type { ClaimedJob, JobRequest } from './job-row.js'
import type { ProgressMeter } from './progress-meter.js'
import { settleJob } from './settle-job.js'

/** How many rows a report shows. */
const SHOWN_ROWS = 100

/**
 * Runs a job to its end, or from the chunk on that is not done. Of one that is refused, whoever ran it before and was not heard of any more
 * may have committed it meanwhile: then that is what it did.
 *
 * @throws BulkRefused where it did nothing; LedgermanProblem
 */
export async function runJob(
  parts: JobParts,
  job: ClaimedJob,
  signal: AbortSignal,
  progress: ProgressMeter,
): Promise<JobDone> {
  try {
    return await run(parts, job, signal, progress)
  } catch (error) {
    // A part that is refused has looked itself.
    if (error instanceof BulkRefused || !isRefusal(error)) throw error
    const done = await settleJob(parts, job, progress).catch((unread: unknown) => {
      if (job.isInDoubt) throw unread
    })
    if (done) return done
    throw new BulkRefused(error, null)
  }
}

async function run(parts: JobParts, job: ClaimedJob, signal: AbortSignal, progress: ProgressMeter): Promise<JobDone> {
  const target = parts.targets.get(job.target)
  const { request } = job
  if (request.kind === 'reversal') return runReversal(parts, target, job, request, signal, progress)
  const mapping = await mappingOf(parts, target, job)
  const bulk: BulkRequest = {
    job: job.id,
    mode: job.mode,
    actor: job.actor,
    note: job.note,
    timeLimitMs: parts.timeLimitMs,
    rehearsed: request.rehearsed ?? undefined,
    signal,
    isHeld: parts.isHeld,
    onProgress: ({ phase, rows, total }) => progress.tell(phase, rows, total),
  }
  const result =
    request.kind === 'filter'
      ? await runFilter(parts, target, mapping, request, bulk)
      : await runFile(parts, target, mapping, job, request, bulk, progress)
  const rehearsal =
    job.mode === 'rehearse'
      ? await parts.rehearsals.keep(target.name, job.actor, request.subject, result.evidence)
      : null
  return { report: result.report, entry: result.entry, rehearsal }
}

async function runReversal(
  { targets, rehearsals, timeLimitMs, isHeld }: JobParts,
  target: Target,
  { id, mode, actor, note }: ClaimedJob,
  { entries, onlyUnchanged, rehearsed, subject }: Extract<JobRequest, { kind: 'reversal' }>,
  signal: AbortSignal,
  progress: ProgressMeter,
): Promise<JobDone> {
  const before = mode === 'commit' ? await findBookedPart(target, { job: id, actor }, null) : undefined
  if (before) return { ...before, rehearsal: null }
  const { receipt, evidence } = await reverseEntries(
    target,
    entries,
    (name, revision) => targets.findRevision(target, name, revision),
    {
      mode,
      actor,
      note,
      onlyUnchanged,
      rehearsed: rehearsed ?? undefined,
      timeLimitMs,
      signal,
      isHeld,
      job: id,
      onProgress: (rows) => progress.tell('changing', rows, null),
    },
  )
  const total = (of: 'matched' | 'changed') => receipt.steps.reduce((sum, step) => sum + (step[of] ?? 0), 0)
  const left = receipt.leftAsIs ?? []
  const report = {
    ...emptyReport(),
    matched: total('matched'),
    changed: total('changed'),
    refused: total('matched') - total('changed'),
    sample: left.map(({ key, reason }) => ({ line: null, key, reason, code: 'reversal-conflict' as const })),
    rows: receipt.steps.flatMap(({ rows }) => rows).slice(0, SHOWN_ROWS),
  }
  return {
    report,
    entry: receipt.entry === null ? null : receipt.id,
    rehearsal: mode === 'rehearse' ? await rehearsals.keep(target.name, actor, subject, evidence) : null,
  }
}

async function runFilter(
  { targets }: JobParts,
  target: Target,
  mapping: Mapping,
  { input }: Extract<JobRequest, { kind: 'filter' }>,
  bulk: BulkRequest,
): Promise<BulkResult> {
  const findMapping = (name: string) =>
    name === mapping.name ? Promise.resolve(mapping) : targets.mapping(target, name)
  return runFilterJob(target, await resolveFilterJob(target, input, findMapping), bulk)
}

async function runFile(
  { jobs, instance }: JobParts,
  target: Target,
  mapping: Mapping,
  job: ClaimedJob,
  request: Extract<JobRequest, { kind: 'file' }>,
  bulk: BulkRequest,
  progress: ProgressMeter,
): Promise<BulkResult> {
  const { shape } = readColumns(mapping, request.names, request, 1)
  const rows = job.rows ?? 0
  let report = job.chunksDone > 0 ? (job.report ?? emptyReport()) : emptyReport()
  const isChunked = request.chunk !== null && job.mode === 'commit'
  const result = await runFileJob(
    target,
    { mapping, given: shape, images: request.images, chunk: request.chunk, rows, read: () => jobs.parts(job.id) },
    bulk,
    {
      done: job.chunksDone,
      onFailed: (chunk: number, failed: readonly FailedRow[]) => jobs.keepFailed(job.id, chunk, failed),
      onChunk: async (chunk, done) => {
        report = joinReports(report, done.report)
        progress.chunkDone(chunk, Math.min(rows, chunk * (request.chunk ?? rows)))
        await jobs.chunkDone(job.id, instance, chunk, done.entry, report)
      },
    },
  )
  return isChunked ? { ...result, report } : result
}

/** The mapping in the revision that the job was asked with. */
async function mappingOf({ targets }: JobParts, target: Target, job: ClaimedJob): Promise<Mapping> {
  const mapping = await asItIs(target, () => targets.findRevision(target, job.mapping, job.revision))
  if (mapping) return mapping
  throw new LedgermanProblem(
    'definition-invalid',
    `The mapping ${job.mapping} no longer fits the database, or its revision ${job.revision} is gone. Start the job again.`,
    { definition: job.mapping },
  )
}
