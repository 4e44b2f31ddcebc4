import colors from 'picocolors'
import type { Command } from 'commander'
import { LedgermanProblem, type Job } from '@ledgerman/contract'
import type { CommandContext } from '../command-context.js'
import { formatJob, progressBar } from '../output/job-text.js'

export interface JobOutput {
  full?: boolean
  /** What to do to keep what was only rehearsed. */
  keepWith?: (token: string) => string
}

/**
 * Follows a job to its end and tells what became of it. Whoever stops waiting does not stop the job.
 *
 * @throws LedgermanProblem that of the job, where it failed
 */
export async function followJob(
  context: CommandContext,
  command: Command,
  begun: Job,
  { full = false, keepWith }: JobOutput,
): Promise<void> {
  const stop = () => {
    context.terminal.err(`\nThe job goes on: ledgerman jobs follow ${begun.id}\n`)
    process.exit(130)
  }
  process.once('SIGINT', stop)
  let last = begun
  try {
    for await (const job of context.client().followJob(begun.id)) {
      last = job
      context.showProgress(isOver(job) ? '' : progressBar(job))
    }
  } finally {
    process.off('SIGINT', stop)
    context.showProgress('')
  }
  const keep =
    last.rehearsal !== null && keepWith && last.report && last.report.changed > 0
      ? `\n\n${colors.dim(keepWith(last.rehearsal))}`
      : ''
  if (last.state === 'failed' && !last.report && !context.isJson(command)) throw problemOf(last)
  context.print(command, last, () => `${formatJob(last, full)}${keep}${resumeHint(last)}`)
  if (last.state === 'failed') throw problemOf(last)
  if (last.state === 'cancelled') throw new LedgermanProblem('cancelled', 'The job was cancelled.', { job: last.id })
}

function isOver({ state }: Job): boolean {
  return state !== 'queued' && state !== 'running'
}

function resumeHint({ id, kind, state, report, entries, progress }: Job): string {
  const hasParts = progress.chunk !== null && entries.length > 0
  if (state === 'failed' && hasParts)
    return `\n\n${colors.dim(`To go on behind what is committed, once its reason is put right: ledgerman jobs resume ${id}`)}`
  if (state === 'cancelled') return `\n\n${colors.dim(`To go on with it: ledgerman jobs resume ${id}`)}`
  const left = report ? report.notFound + report.ambiguous + report.refused : 0
  return kind === 'file' && left > 0
    ? `\n\n${colors.dim(`The rows left, with their reasons: ledgerman jobs failed-rows ${id}`)}`
    : ''
}

function problemOf({ id, problem }: Job): LedgermanProblem {
  if (!problem) return new LedgermanProblem('internal', 'The job failed, and does not say why.', { job: id })
  const { code, detail, type: _type, title: _title, status: _status, ...facts } = problem
  return new LedgermanProblem(code, detail, { ...facts, job: id })
}
