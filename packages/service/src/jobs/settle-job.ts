import { emptyReport, findBookedPart, joinReports } from '@ledgerman/core'
import type { ClaimedJob } from './job-row.js'
import type { JobDone, JobParts } from './job-parts.js'
import type { ProgressMeter } from './progress-meter.js'

/**
 * Finds out what stands of a job that is not to go on, where the answer to its last commit was lost, or whoever ran it was: the target's
 * book says so. A chunk that was committed and not told of is kept as done.
 *
 * @returns what the job did, where all of it was committed; undefined where there is no more than what is known of it.
 * @throws LedgermanProblem target-unavailable, target-denied
 */
export async function settleJob(
  { jobs, targets, instance }: JobParts,
  job: ClaimedJob,
  progress: ProgressMeter,
): Promise<JobDone | undefined> {
  if (job.mode === 'rehearse') return undefined
  const size = job.request.kind === 'file' ? job.request.chunk : null
  const chunk = size === null ? null : job.chunksDone + 1
  const part = await findBookedPart(targets.get(job.target), { job: job.id, actor: job.actor }, chunk)
  if (!part) return undefined
  if (size === null || chunk === null) return { ...part, rehearsal: null }
  const report = joinReports(job.report ?? emptyReport(), part.report)
  progress.chunkDone(chunk, Math.min(job.rows ?? 0, chunk * size))
  await jobs.chunkDone(job.id, instance, chunk, part.entry, report)
  return chunk * size >= (job.rows ?? 0) ? { report, entry: part.entry, rehearsal: null } : undefined
}
