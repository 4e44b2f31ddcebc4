import colors from 'picocolors'
import type { FailedRow, Job, JobReport } from '@ledgerman/contract'
import { countOf } from '@ledgerman/client'
import { formatDifferences } from './differences-text.js'
import { moreRows } from './more-rows.js'
import { formatBeside } from './beside-text.js'
import { formatRoundings } from './roundings-text.js'
import { formatTable, formatValue } from './table.js'

/** How many rows are shown where not all are asked for. */
const SHOWN_ROWS = 10

const STATES: Record<Job['state'], (text: string) => string> = {
  queued: colors.dim,
  running: colors.cyan,
  done: colors.green,
  failed: colors.red,
  cancelled: colors.yellow,
}

/** A job for people: what became of it, the rows that changed, the rows that did not and why. */
export function formatJob(job: Job, isFull: boolean): string {
  const { report } = job
  const parts = [headline(job)]
  if (report && report.rows.length > 0) {
    const most = isFull ? Infinity : SHOWN_ROWS
    parts.push(formatDifferences(report.rows, most, isFull))
    parts.push(...moreRows(report.rows.length, most, report.changed, job.entries))
  }
  parts.push(...formatRoundings(report?.rounded), ...formatBeside(report ?? {}))
  if (report && report.sample.length > 0) parts.push(formatFailed(report, isFull))
  if (job.entries.length > 0)
    parts.push(
      job.entries.length <= 3
        ? `${job.entries.length === 1 ? 'Entry' : 'Entries'} ${job.entries.join(', ')}`
        : `${job.entries.length} entries, from ${job.entries[0]} to ${job.entries.at(-1)}`,
    )
  return parts.join('\n\n')
}

function headline(job: Job): string {
  const { report, state, mode } = job
  const name = state === 'done' ? (mode === 'commit' ? 'committed' : 'rehearsed, rolled back') : state
  return `${STATES[state](name)}: ${report ? counts(report) : progressText(job)}`
}

function counts({ matched, changed, same, added, notFound, ambiguous, refused }: JobReport): string {
  const more = [
    added > 0 ? `added ${added}` : '',
    same > 0 ? `${same} already had these values` : '',
    notFound > 0 ? `${notFound} not found` : '',
    ambiguous > 0 ? `${ambiguous} with a key that stands there twice` : '',
    refused > 0 ? `${refused} refused` : '',
  ].filter(Boolean)
  return [`matched ${matched}`, `changed ${changed}`, ...more].join(', ')
}

function formatFailed({ sample, notFound, ambiguous, refused }: JobReport, isFull: boolean): string {
  const shown = isFull ? sample : sample.slice(0, SHOWN_ROWS)
  const isFile = sample.some(({ line }) => line !== null)
  const rows = shown.map((row) => [...(isFile ? [lineOf(row)] : []), keyOf(row), row.reason])
  const left = Math.max(sample.length, notFound + ambiguous + refused) - shown.length
  const table = formatTable([...(isFile ? ['line'] : []), 'key', 'not applied, because'], rows, ['line'])
  return left > 0 ? `${table}\n${colors.dim(`… and ${left} more ${left === 1 ? 'row' : 'rows'}`)}` : table
}

function lineOf({ line }: FailedRow): string {
  return line === null ? '' : String(line)
}

function keyOf({ key }: FailedRow): string {
  return Object.values(key)
    .map((value) => formatValue(value, 30))
    .join(', ')
}

/** How far a job is, on one line. */
export function progressText({ progress, state }: Pick<Job, 'progress' | 'state'>): string {
  const { rows, total, perSecond, remainingMs, chunk, phase } = progress
  if (state === 'queued') return 'waits for its turn'
  const of = total === null ? countOf(rows, 'row') : `${rows} of ${countOf(total, 'row')}`
  return [
    phase ?? '',
    of,
    chunk === null ? '' : `chunk ${chunk}`,
    perSecond === null ? '' : `${perSecond} a second`,
    remainingMs === null || remainingMs === 0 ? '' : `${Math.max(1, Math.round(remainingMs / 1000))} s left`,
  ]
    .filter(Boolean)
    .join(', ')
}

const BAR_WIDTH = 24

/** The same with a bar, for a terminal. */
export function progressBar(job: Pick<Job, 'progress' | 'state'>): string {
  const { rows, total } = job.progress
  const part = total === null || total === 0 ? 0 : Math.min(1, rows / total)
  const filled = Math.round(part * BAR_WIDTH)
  return `${'█'.repeat(filled)}${'░'.repeat(BAR_WIDTH - filled)} ${progressText(job)}`
}

/** A line a job. */
export function formatJobs(jobs: readonly Job[]): string {
  return formatTable(
    ['job', 'begun (UTC)', 'by', 'state', 'what', 'matched', 'changed', ''],
    jobs.map((job) => [
      job.id,
      job.startedAt === null ? '' : `${job.startedAt.slice(0, 10)} ${job.startedAt.slice(11, 19)}`,
      job.actor,
      STATES[job.state](job.state),
      [
        job.mode === 'rehearse' ? 'rehearse' : '',
        job.mapping,
        job.kind === 'file' ? 'from a file' : (job.condition ?? ''),
      ]
        .filter(Boolean)
        .join(' '),
      String(job.report?.matched ?? '–'),
      String(job.report?.changed ?? '–'),
      job.problem ? colors.red(job.problem.code) : job.state === 'running' ? progressText(job) : '',
    ]),
    ['matched', 'changed'],
  )
}
