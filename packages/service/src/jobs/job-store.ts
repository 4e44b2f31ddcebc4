import {
  LedgermanProblem,
  printJson,
  type FailedRow,
  type Job,
  type JobList,
  type JobProgress,
  type JobQuery,
  type JobReport,
  type JobState,
  type ProblemDocument,
} from '@ledgerman/contract'
import type { HomeDatabase } from '../home/home-database.js'
import { JOB_COLUMNS, toClaimed, toJob, type ClaimedJob, type JobRow, type NewJob } from './job-row.js'

/** For how long a job is a runner's, in milliseconds, unless it says again that it still runs it. */
export const LEASE_MS = 5_000
const CLAIM_LOCK = 4_680_300

const JOB_BY_ID = `select ${JOB_COLUMNS} from ledgerman_home.job where id = $1`
/** Whether a job ended so that it can be resumed. */
const isStopped = (state: JobState) => state === 'failed' || state === 'cancelled'

/** Jobs, in the home database: every service on it sees them all, and runs those of its targets. */
export class JobStore {
  constructor(readonly home: HomeDatabase) {}

  /**
   * Keeps a new job; of one that was asked for with the same key before, that one is given.
   *
   * @throws LedgermanProblem idempotency-key-reused; outcome-unknown where it may have been kept, and would be run
   */
  async add(job: NewJob): Promise<{ job: Job; isNew: boolean }> {
    try {
      return await this.#add(job)
    } catch (error) {
      throw job.mode === 'commit' && this.home.mayBeDone(error) ? maybeKept(job, error) : error
    }
  }

  async #add(job: NewJob): Promise<{ job: Job; isNew: boolean }> {
    const { id, target, mapping, revision, mode, actor, note, condition, rows, request, once } = job
    const [row] = await this.home.query<JobRow>(
      `insert into ledgerman_home.job (id, target, mapping, revision, kind, mode, state, actor, note, condition, rows, request, request_key, request_digest)
       values ($1, $2, $3, $4, $5, $6, 'queued', $7, $8, $9, $10, $11, $12, $13)
       on conflict do nothing returning ${JOB_COLUMNS}`,
      [
        id,
        target,
        mapping,
        revision,
        request.kind,
        mode,
        actor,
        note,
        condition,
        rows,
        printJson(request),
        once?.key ?? null,
        once?.digest ?? null,
      ],
    )
    // It is there already where the answer was lost the first time that this was sent.
    const [own] = row ? [row] : await this.home.query<JobRow>(JOB_BY_ID, [id])
    if (own) return { job: toJob(own), isNew: true }
    const [before] = await this.home.query<JobRow & { request_digest: string }>(
      `select ${JOB_COLUMNS}, request_digest from ledgerman_home.job where actor = $1 and request_key = $2`,
      [actor, once?.key],
    )
    if (before && before.request_digest === once?.digest) return { job: toJob(before), isNew: false }
    throw new LedgermanProblem(
      'idempotency-key-reused',
      'This Idempotency-Key came with another job before. Give each request a key of its own.',
      { key: once?.key, job: before?.id },
    )
  }

  /** @throws LedgermanProblem not-found, also for who may not see its target. */
  async get(id: string, targets: readonly string[] | null): Promise<Job> {
    return toJob(await this.#row(id, targets))
  }

  async #row(id: string, targets: readonly string[] | null): Promise<JobRow> {
    const [row] = UUID.test(id) ? await this.home.query<JobRow>(JOB_BY_ID, [id]) : []
    if (!row || (targets !== null && !targets.includes(row.target)))
      throw new LedgermanProblem('not-found', `There is no job ${id}.`, { job: id })
    return row
  }

  /** The newest first. */
  async list({ target, state, limit, after }: JobQuery, targets: readonly string[] | null): Promise<JobList> {
    const rows = await this.home.query<JobRow>(
      `select ${JOB_COLUMNS} from ledgerman_home.job
       where ($1::text is null or target = $1) and ($2::text is null or state = $2) and ($3::text[] is null or target = any($3))
         and ($4::uuid is null or id < $4) order by id desc limit $5`,
      [target ?? null, state ?? null, targets, after ?? null, limit + 1],
    )
    const jobs = rows.slice(0, limit).map(toJob)
    return { jobs, next: rows.length > limit ? (jobs.at(-1)?.id ?? null) : null }
  }

  /** Takes the next job that nobody runs: a new one, or one whose runner has not been heard of, and may have committed what it did not tell. */
  claim(
    instance: string,
    targets: readonly string[],
    perTarget: number,
    /** What this runner runs: nobody else may have taken it though it could not be renewed for a while. */
    running: readonly string[],
  ): Promise<ClaimedJob | undefined> {
    return this.home.transaction(async (query) => {
      // Services count what runs on a target one after the other.
      await query('select pg_advisory_xact_lock($1)', [CLAIM_LOCK])
      const [row] = await query<JobRow>(
        `update ledgerman_home.job set state = 'running', instance = $1, lease_until = now() + $2 * interval '1 millisecond',
           started_at = coalesce(started_at, now()), in_doubt = in_doubt or (state = 'running' and mode = 'commit')
         where id = (select j.id from ledgerman_home.job j
           where (j.state = 'queued' or (j.state = 'running' and j.lease_until < now())) and j.target = any($3) and j.id <> all($5)
             and (j.not_before is null or j.not_before <= now())
             and (select count(*) from ledgerman_home.job r where r.target = j.target and r.state = 'running' and r.lease_until >= now()) < $4
           order by j.created_at limit 1)
         returning ${JOB_COLUMNS}`,
        [instance, LEASE_MS, targets, perTarget, running],
      )
      return row && toClaimed(row)
    })
  }

  /** Says that a job is still run, and how far it is. @returns whether it still is this runner's, and whether its end is asked for. */
  async renew(id: string, instance: string, progress: JobProgress): Promise<{ isOurs: boolean; cancelAsked: boolean }> {
    const [row] = await this.home.query<{ cancel_asked: boolean }>(
      `update ledgerman_home.job set lease_until = now() + $3 * interval '1 millisecond', progress = $4
       where id = $1 and instance = $2 and state = 'running' returning cancel_asked`,
      [id, instance, LEASE_MS, JSON.stringify(progress)],
    )
    return { isOurs: row !== undefined, cancelAsked: row?.cancel_asked ?? false }
  }

  /** Keeps what a chunk did. */
  async chunkDone(id: string, instance: string, chunk: number, entry: string | null, report: JobReport): Promise<void> {
    await this.home.query(
      `update ledgerman_home.job set chunks_done = $3, report = $4, entries = case when $5::text is null or $5 = any(entries) then entries else entries || $5::text end
       where id = $1 and instance = $2`,
      [id, instance, chunk, printJson(report), entry],
    )
  }

  /** Keeps which rows of a chunk were left, in place of what was kept of it before. */
  async keepFailed(id: string, chunk: number, failed: readonly FailedRow[]): Promise<void> {
    await this.home.transaction(async (query) => {
      await query('delete from ledgerman_home.job_failed_row where job = $1 and chunk = $2', [id, chunk])
      for (let at = 0; at < failed.length; at += 5_000)
        await query(
          `insert into ledgerman_home.job_failed_row (job, chunk, line, key, reason, code)
           select $1, $2, line, key, reason, code from json_to_recordset($3::json) as r(line bigint, key json, reason text, code text)`,
          [id, chunk, printJson(failed.slice(at, at + 5_000))],
        )
    })
  }

  /** By line, why a row was not applied. */
  async failed(id: string): Promise<Map<number, { reason: string; code: string }>> {
    const rows = await this.home.query<{ line: string; reason: string; code: string }>(
      'select line, reason, code from ledgerman_home.job_failed_row where job = $1 and line is not null order by line',
      [id],
    )
    return new Map(rows.map(({ line, reason, code }) => [Number(line), { reason, code }]))
  }

  async end(
    id: string,
    instance: string,
    to: {
      state: Extract<JobState, 'done' | 'failed' | 'cancelled'>
      progress: JobProgress
      report: JobReport | null
      entry?: string | null
      rehearsal?: string | null
      problem?: ProblemDocument | null
      isInDoubt?: boolean
    },
  ): Promise<void> {
    await this.home.query(
      `update ledgerman_home.job set state = $3, ended_at = now(), lease_until = null, progress = $4, report = coalesce($5::json, report),
         entries = case when $6::text is null or $6 = any(entries) then entries else entries || $6::text end, rehearsal = $7, problem = $8, in_doubt = $9
       where id = $1 and instance = $2 and state = 'running'`,
      [
        id,
        instance,
        to.state,
        JSON.stringify(to.progress),
        to.report && printJson(to.report),
        to.entry ?? null,
        to.rehearsal ?? null,
        to.problem ? printJson(to.problem) : null,
        to.isInDoubt ?? false,
      ],
    )
  }

  /** Gives a job back, for another try after so many milliseconds. */
  async putBack(
    id: string,
    instance: string,
    { inMs, isFailure, isInDoubt }: { inMs: number; isFailure: boolean; isInDoubt: boolean },
  ): Promise<void> {
    await this.home.query(
      `update ledgerman_home.job set state = 'queued', instance = null, lease_until = null, not_before = now() + $3 * interval '1 millisecond',
         failures = failures + $4, in_doubt = $5
       where id = $1 and instance = $2 and state = 'running'`,
      [id, instance, inMs, isFailure ? 1 : 0, isInDoubt],
    )
  }

  /** Asks for a job's end: one that waits is over at once, unless its target has to be asked first what it did. @throws LedgermanProblem not-found, job-ended */
  async cancel(id: string, targets: readonly string[] | null): Promise<Job> {
    const { state } = await this.#row(id, targets)
    const [row] = await this.home.query<JobRow>(
      `update ledgerman_home.job set cancel_asked = true, state = case when state = 'queued' and not in_doubt then 'cancelled' else state end,
         ended_at = case when state = 'queued' and not in_doubt then now() end
       where id = $1 and state in ('queued', 'running') returning ${JOB_COLUMNS}`,
      [id],
    )
    if (row) return toJob(row)
    const now = await this.#row(id, targets)
    // Cancelled meanwhile: by somebody else, or by this, whose answer was lost.
    if (now.state === 'cancelled' && state !== 'cancelled') return toJob(now)
    throw new LedgermanProblem('job-ended', `The job is ${now.state} already, so it cannot be cancelled.`, {
      job: id,
      state: now.state,
    })
  }

  /** Has a job go on that failed or was cancelled. @throws LedgermanProblem not-found, job-ended */
  async resume(id: string, targets: readonly string[] | null): Promise<Job> {
    const { state, kind } = await this.#row(id, targets)
    const [row] = await this.home.query<JobRow>(
      `update ledgerman_home.job set state = 'queued', cancel_asked = false, ended_at = null, not_before = null, failures = 0, problem = null
       where id = $1 and state in ('failed', 'cancelled')
         and (kind <> 'file' or exists (select from ledgerman_home.job_part p where p.job = job.id)) returning ${JOB_COLUMNS}`,
      [id],
    )
    if (row) return toJob(row)
    const now = await this.#row(id, targets)
    // Resumed meanwhile: by somebody else, or by this, whose answer was lost.
    if (isStopped(state) && !isStopped(now.state)) return toJob(now)
    const isGone = kind === 'file' && isStopped(now.state)
    throw new LedgermanProblem(
      'job-ended',
      isGone
        ? 'The rows of its file are no longer kept. Send the file again.'
        : `The job is ${now.state}; only one that failed or was cancelled can be resumed.`,
      { job: id, state: now.state },
    )
  }

  async keepPart(job: string, no: number, rows: number, lines: Buffer): Promise<void> {
    await this.home.query(
      'insert into ledgerman_home.job_part (job, no, rows, data) values ($1, $2, $3, $4) on conflict (job, no) do nothing',
      [job, no, rows, lines],
    )
  }

  async dropParts(job: string): Promise<void> {
    await this.home.query('delete from ledgerman_home.job_part where job = $1', [job])
  }

  /** The rows of a file, part by part: never more than two are held, one that is used and the next. */
  async *parts(job: string): AsyncGenerator<Buffer> {
    const part = async (no: number) => {
      const [row] = await this.home.query<{ data: Buffer }>(
        'select data from ledgerman_home.job_part where job = $1 and no = $2',
        [job, no],
      )
      return row?.data
    }
    let next = part(1)
    for (let no = 2; ; no++) {
      const data = await next
      if (!data) return
      next = part(no)
      // Whoever takes no more of them leaves one unasked for.
      next.catch(() => undefined)
      yield data
    }
  }

  /** Drops the rows of files whose jobs are long over, or that never became a job. */
  async sweep(keepHours: number): Promise<void> {
    await this.home.query(
      `delete from ledgerman_home.job_part p where received_at < now() - interval '2 hours' and not exists (select from ledgerman_home.job j where j.id = p.job)
         or exists (select from ledgerman_home.job j where j.id = p.job and j.ended_at < now() - $1 * interval '1 hour')`,
      [keepHours],
    )
    await this.home.query(
      `delete from ledgerman_home.job_failed_row f where exists (select from ledgerman_home.job j where j.id = f.job and j.ended_at < now() - $1 * interval '1 hour')`,
      [keepHours],
    )
  }

  /** How many jobs there are in each state that is not over, by target. */
  async open(): Promise<{ target: string; state: string; jobs: number }[]> {
    return this.home.query(
      `select target, state, count(*)::integer as jobs from ledgerman_home.job where state in ('queued', 'running') group by 1, 2`,
    )
  }

  /** What the runner needs of a job that is over: how to write its rows again. */
  async request(id: string, targets: readonly string[] | null): Promise<ClaimedJob> {
    return toClaimed(await this.#row(id, targets))
  }
}

const UUID = /^[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}$/i

function maybeKept({ id, once }: NewJob, cause: unknown): LedgermanProblem {
  const again = once
    ? 'send it again with the same Idempotency-Key'
    : `look for it (GET /v1/jobs/${id}) before you ask again`
  return new LedgermanProblem(
    'outcome-unknown',
    `Ledgerman's home database broke while it kept the job ${id}: nobody can say now whether it will be run. When it is back, ${again}.`,
    { home: true, job: id },
    { cause },
  )
}
