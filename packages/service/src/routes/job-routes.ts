import type { EventEmitter } from 'node:events'
import type { Readable } from 'node:stream'
import {
  job,
  jobFileQuery,
  jobInput,
  jobList,
  jobQuery,
  LedgermanProblem,
  printJson,
  type Job,
  type JobFileQuery,
  type JobInput,
  type ProblemCode,
} from '@ledgerman/contract'
import {
  asItIs,
  assertFileJob,
  conditionOf,
  newEntryId,
  resolveFilterJob,
  type BulkEvidence,
  type Mapping,
  type Target,
} from '@ledgerman/core'
import { z } from 'zod'
import { digestOf } from '../home/rehearsal-store.js'
import { readIdempotencyKey } from '../http/idempotency-key.js'
import { assertNamed } from '../http/limited-token.js'
import { AS_IT_COMES, defineRoute, type Call, type Reply } from '../http/route.js'
import { failedRows } from '../jobs/failed-rows.js'
import type { NewJob } from '../jobs/job-row.js'
import { readFile } from '../jobs/read-file.js'
import type { Services } from './services.js'

const JOBS = '/v1/targets/{target}/jobs'
const JOB = '/v1/jobs/{job}'
const CSV = 'text/csv'
const NDJSON = 'application/x-ndjson'

/** How long a file may take to come, in milliseconds. */
const LONGEST_UPLOAD_MS = 60 * 60_000

/** How often whoever follows a job is told how far it is, and how often that the connection stands, in milliseconds. */
const TELL_EVERY_MS = 250
const BEAT_MS = 10_000

const PROBLEMS: ProblemCode[] = [
  'count-required',
  'file-invalid',
  'value-invalid',
  'expression-invalid',
  'definition-invalid',
  'book-not-prepared',
  'no-key',
  'rehearsal-stale',
  'idempotency-key-reused',
  'outcome-unknown',
]

export function jobRoutes({ targets, rehearsals, jobs, runner, jobLimits }: Services) {
  return [
    defineRoute<typeof jobFileQuery, JobInput | undefined>({
      method: 'post',
      path: JOBS,
      role: 'writer',
      looksAtLimits: true,
      summary:
        'Begin a job: change or remove all records that a condition is true of (JSON), or apply a file of corrections (CSV or NDJSON, with the rest in the query).',
      query: jobFileQuery,
      headers: { 'Idempotency-Key': 'A job that is asked for again with the same key is begun once.' },
      body: {
        'application/json': { schema: jobInput },
        [CSV]: { schema: z.string(), parse: AS_IT_COMES },
        [NDJSON]: { schema: z.string(), parse: AS_IT_COMES },
      },
      longestMs: LONGEST_UPLOAD_MS,
      replies: {
        202: { description: 'The job, which waits for its turn.', schema: job, headers: { location: 'The job.' } },
      },
      problems: PROBLEMS,
      handle: async (call) => {
        const target = targets.get(call.params['target'] ?? '')
        const isFile = call.mediaType !== 'application/json'
        const asked = isFile ? await fromFile(target, call) : await fromFilter(target, call, call.body as JobInput)
        return begun(asked)
      },
    }),
    defineRoute({
      method: 'get',
      path: '/v1/jobs',
      role: 'reader',
      summary: 'The jobs, the newest first.',
      query: jobQuery,
      replies: { 200: { description: 'A page.', schema: jobList } },
      problems: ['not-found'],
      handle: async ({ query, caller }) => {
        // A name that is none is not the same as a target without jobs; whoever is limited to some is told nothing of others.
        if (query.target !== undefined && caller.targets === null) targets.get(query.target)
        return { status: 200, body: await jobs.list(query, caller.targets) }
      },
    }),
    defineRoute({
      method: 'get',
      path: JOB,
      role: 'reader',
      looksAtLimits: true,
      summary: 'A job: how far it is, or what became of it.',
      replies: { 200: { description: 'The job.', schema: job } },
      problems: ['not-found'],
      handle: async (call) => ({ status: 200, body: await jobOf(call) }),
    }),
    defineRoute({
      method: 'get',
      path: `${JOB}/events`,
      role: 'reader',
      looksAtLimits: true,
      summary: 'Follow a job: server-sent events `progress` and, at its end, `ended`, each with the job.',
      longestMs: null,
      onlyTells: true,
      replies: { 200: { description: 'Events, until the job ends.', alsoAs: ['text/event-stream'] } },
      problems: ['not-found'],
      handle: async (call) => {
        const first = await jobOf(call)
        return {
          status: 200,
          headers: { 'cache-control': 'no-store' },
          stream: { contentType: 'text/event-stream', chunks: events(first, call) },
        }
      },
    }),
    defineRoute({
      method: 'get',
      path: `${JOB}/failed-rows`,
      role: 'reader',
      looksAtLimits: true,
      summary: 'The rows of a file that were not applied, in the form they came in, each with its reason.',
      longestMs: null,
      replies: { 200: { description: 'The rows.', alsoAs: [CSV, NDJSON] } },
      problems: ['not-found'],
      handle: async (call) => {
        await jobOf(call)
        const asked = await jobs.request(idOf(call), call.caller.targets)
        const { request } = asked
        if (request.kind !== 'file')
          throw new LedgermanProblem(
            'not-found',
            'A change by condition has no file, so no rows of one. Its report names the records.',
            {
              job: asked.id,
            },
          )
        const target = targets.get(asked.target)
        const mapping =
          (await targets.findRevision(target, asked.mapping, asked.revision)) ??
          (await targets.mapping(target, asked.mapping))
        const contentType = request.form === 'csv' ? `${CSV}; charset=utf-8; header=present` : NDJSON
        return { status: 200, stream: { contentType, chunks: failedRows(jobs, mapping, { ...asked, request }) } }
      },
    }),
    defineRoute({
      method: 'post',
      path: `${JOB}/resume`,
      role: 'writer',
      looksAtLimits: true,
      summary: 'Have a job go on that failed or was cancelled: behind the last chunk that was committed.',
      replies: { 202: { description: 'The job, which waits for its turn.', schema: job } },
      problems: ['not-found', 'job-ended'],
      handle: async (call) => {
        await jobOf(call)
        const resumed = await jobs.resume(idOf(call), call.caller.targets)
        runner.look()
        return { status: 202, body: resumed }
      },
    }),
    defineRoute({
      method: 'delete',
      path: JOB,
      role: 'writer',
      looksAtLimits: true,
      summary: 'Cancel a job: what is under way is rolled back.',
      replies: { 202: { description: 'The job; it ends within moments.', schema: job } },
      problems: ['not-found', 'job-ended'],
      handle: async (call) => {
        await jobOf(call)
        const cancelled = await jobs.cancel(idOf(call), call.caller.targets)
        runner.cancel(cancelled.id)
        return { status: 202, body: cancelled }
      },
    }),
  ]

  /** The job that a call names. @throws LedgermanProblem not-found, forbidden */
  async function jobOf(call: Call): Promise<Job> {
    const found = await jobs.get(idOf(call), call.caller.targets)
    assertNamed(call.caller, found.mapping)
    return found
  }

  async function begun(asked: NewJob): Promise<Reply> {
    const { job: added, isNew } = await jobs.add(asked)
    if (!isNew) await jobs.dropParts(asked.id)
    runner.look()
    return { status: 202, body: added, headers: { location: `/v1/jobs/${added.id}` } }
  }

  /** A job that is asked for again with the same key is begun once. */
  function onceOf({ request }: Call, asked: unknown): NewJob['once'] {
    const key = request.headers['idempotency-key']
    return key === undefined ? undefined : { key: readIdempotencyKey(key), digest: digestOf(asked) }
  }

  async function fromFilter(target: Target, call: Call<JobFileQuery>, input: JobInput): Promise<NewJob> {
    const [more] = Object.entries(call.query).flatMap(([name, value]) => (value === undefined ? [] : [name]))
    if (more !== undefined)
      throw new LedgermanProblem(
        'request-invalid',
        `${more}: a change by condition says all in its body; the query is for files.`,
        {
          where: more,
        },
      )
    const mapping = await targets.mappingFor(call.caller, target, input.mapping)
    const filter = await resolveFilterJob(target, input, (name) => targets.mappingFor(call.caller, target, name))
    const { mode, rehearsal, note, ...rest } = input
    const subject = digestOf(['filter', rest, mapping.revision])
    return {
      ...headerOf(target, mapping, call),
      mode,
      note: note ?? null,
      condition: conditionOf(filter),
      rows: null,
      once: onceOf(call, [subject, mode, rehearsal ?? null, note ?? null]),
      request: { kind: 'filter', input, rehearsed: await rehearsed(target, call, rehearsal, subject), subject },
    }
  }

  async function fromFile(target: Target, call: Call<JobFileQuery>): Promise<NewJob> {
    const {
      mapping: name,
      mode,
      images = 'changed',
      chunk,
      guard = null,
      onMissing = 'refuse',
      note,
      rehearsal,
    } = call.query
    for (const [what, value] of Object.entries({ mapping: name, mode }))
      if (value === undefined)
        throw new LedgermanProblem(
          'request-invalid',
          `${what}: a file says in the query which mapping it is for, and its mode.`,
          { where: what },
        )
    if (rehearsal !== undefined && mode === 'rehearse')
      throw new LedgermanProblem('request-invalid', 'rehearsal: a token is given to commit what was rehearsed.', {
        where: 'rehearsal',
      })
    const form = call.mediaType === CSV ? 'csv' : 'ndjson'
    if (form === 'ndjson' && call.query.delimiter !== undefined)
      throw new LedgermanProblem('request-invalid', 'delimiter: NDJSON has none.', { where: 'delimiter' })
    const delimiter = call.query.delimiter ?? ','
    // A file is read once: it cannot be refused, and looked at again.
    const mapping = await asItIs(target, () => targets.mappingFor(call.caller, target, name ?? ''))
    const header = headerOf(target, mapping, call)
    try {
      const file = await readFile(
        call.request as unknown as Readable,
        mapping,
        { form, delimiter, guard, onMissing, limitBytes: jobLimits.fileLimitBytes },
        (no, rows, lines) => jobs.keepPart(header.id, no, rows, lines),
      )
      const { names, shape } = file.columns
      await assertFileJob(target, { mapping, given: shape }, mode === 'commit')
      const subject = digestOf([
        'file',
        mapping.name,
        mapping.revision,
        names,
        guard,
        onMissing,
        images,
        chunk ?? null,
        file.digest,
      ])
      return {
        ...header,
        mode: mode as JobInput['mode'],
        note: note ?? null,
        condition: null,
        rows: file.rows,
        once: onceOf(call, [subject, mode, rehearsal ?? null, note ?? null]),
        request: {
          kind: 'file',
          form,
          delimiter,
          names: [...names],
          guard,
          onMissing,
          images,
          chunk: chunk ?? null,
          rehearsed: await rehearsed(target, call, rehearsal, subject),
          subject,
        },
      }
    } catch (error) {
      await jobs.dropParts(header.id).catch(() => undefined)
      throw error
    }
  }

  function rehearsed(
    target: Target,
    { caller }: Call,
    token: string | undefined,
    subject: string,
  ): Promise<BulkEvidence | null> {
    return token === undefined
      ? Promise.resolve(null)
      : rehearsals.find<BulkEvidence>(token, target.name, caller.actor, subject)
  }

  function headerOf(target: Target, mapping: Mapping, { caller }: Call) {
    return {
      id: newEntryId(),
      target: target.name,
      mapping: mapping.name,
      revision: mapping.revision,
      actor: caller.actor,
    }
  }

  async function* events(first: Job, call: Call): AsyncGenerator<string> {
    const gone = call.gone()
    let told = ''
    let toldAt = 0
    for (let now = first; ; now = await jobs.get(first.id, call.caller.targets)) {
      const isOver = now.endedAt !== null && now.state !== 'queued' && now.state !== 'running'
      const text = printJson(now)
      if (isOver) return void (yield `event: ended\ndata: ${text}\n\n`)
      if (text !== told) yield `event: progress\ndata: ${text}\n\n`
      else if (performance.now() - toldAt > BEAT_MS) yield ': still running\n\n'
      if (text !== told || performance.now() - toldAt > BEAT_MS) toldAt = performance.now()
      told = text
      if (!(await pause(gone, runner.ends, first.id))) return
    }
  }
}

/** Waits a moment, or until the job ends here. @returns false where the caller has gone. */
function pause(gone: AbortSignal, ends: EventEmitter, id: string): Promise<boolean> {
  return new Promise((resolve) => {
    if (gone.aborted) return resolve(false)
    const stop = (isGone: boolean) => {
      clearTimeout(timer)
      gone.removeEventListener('abort', onGone)
      ends.off(id, onEnd)
      resolve(!isGone)
    }
    const onGone = () => stop(true)
    const onEnd = () => stop(false)
    const timer = setTimeout(onEnd, TELL_EVERY_MS)
    gone.addEventListener('abort', onGone, { once: true })
    ends.once(id, onEnd)
  })
}

function idOf({ params }: Pick<Call, 'params'>): string {
  return params['job'] ?? ''
}
