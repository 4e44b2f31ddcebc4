import { withoutValues } from '../sessions/database-words.js'
import { parsePrinted, printJson, type JobReport, type Receipt, type StepKind } from '@ledgerman/contract'
import { introduceStatements, statementId, type KeptStatement } from '../book/introduce-statement.js'
import { NOW_SQL } from '../statement/book-sql.js'
import { recordRefusal } from '../book/record-refusal.js'
import { reversibilityOf } from '../mapping/reversibility.js'
import { showableBinds } from '../statement/shown-statement.js'
import type { Queryable } from '../sessions/queryable.js'
import type { Target } from '../target/target.js'
import { keptProperties, type BulkShape } from './bulk-shape.js'
import { emptyReport, type BulkRefused, type BulkRequest, type BulkResult } from './bulk-request.js'
import type { Statement } from '../statement/statement.js'

/** One statement of a change of many, as its entry tells it. */
export interface BulkStep {
  kind: StepKind
  statement: Statement
  binds: readonly (string | null)[]
  matched: number
  changed: number
  expected: string
}

/** What an entry says of a job as a whole. */
export interface BulkHeader {
  id: string
  startedAt: string
  /** The number of the chunk, from 1; null where the job is one. */
  chunk: number | null
  isolation: string
  attempts: number
  durationMs: number | null
  condition: string | null
}

/** Under which a chunk, or a job that is one, stands in the book once and not again. */
export function chunkKey(job: string, chunk: number | null): string {
  return chunk === null ? `job:${job}` : `job:${job}:${chunk}`
}

/** Sees to it that the statements' texts stand in the book before the entry refers to them. */
export function introduceBulk(
  target: Target,
  shape: BulkShape,
  steps: readonly Pick<BulkStep, 'kind' | 'statement'>[],
) {
  return introduceStatements(
    target,
    steps.map((step) => toKept(shape, step)),
  )
}

function toKept(shape: BulkShape, { kind, statement }: Pick<BulkStep, 'kind' | 'statement'>): KeptStatement {
  const { mapping } = shape
  const touched = kind === 'add' ? mapping.properties : keptProperties(shape)
  return { kind, mapping, statement, set: kind === 'change' ? shape.set : [], touched }
}

/**
 * Writes the entry of a job or chunk, in its own transaction. A second one for the same chunk fails: whoever took the job over while the
 * first was believed dead cannot apply it again.
 */
export async function bookBulk(
  target: Target,
  session: Queryable,
  shape: BulkShape,
  request: BulkRequest,
  header: BulkHeader,
  steps: readonly BulkStep[],
  report: JobReport,
): Promise<void> {
  const run = printJson({ ...runOf(shape, request, header, steps), report: { ...report, rows: [] } })
  const texts = steps.map((step, at) => bookedStep(target, shape, step, at + 1))
  const total = (of: 'matched' | 'changed') => String(steps.reduce((sum, step) => sum + step[of], 0))
  await session.query(
    `insert into ledgerman.entry (id, at, actor, outcome, note, matched, changed, run, steps, request_key, request_digest)
values ($1::uuid, ${NOW_SQL}, $2, 'committed', $3, $4::integer, $5::integer, $6::jsonb, $7::json, $8, $9)`,
    [
      header.id,
      request.actor,
      request.note,
      total('matched'),
      total('changed'),
      run,
      JSON.stringify(texts),
      chunkKey(request.job, header.chunk),
      '',
    ],
  )
}

/** Writes the entry of several steps over as many shapes, in its own transaction. */
export async function bookSteps(
  target: Target,
  session: Queryable,
  id: string,
  { actor, note }: Pick<BulkRequest, 'actor' | 'note'>,
  run: object,
  done: readonly { shape: BulkShape; step: BulkStep }[],
  job?: string,
): Promise<void> {
  const steps = done.map(({ shape, step }, at) => bookedStep(target, shape, step, at + 1))
  const total = (of: 'matched' | 'changed') => String(done.reduce((sum, { step }) => sum + step[of], 0))
  await session.query(
    `insert into ledgerman.entry (id, at, actor, outcome, note, matched, changed, run, steps, request_key, request_digest)
values ($1::uuid, ${NOW_SQL}, $2, 'committed', $3, $4::integer, $5::integer, $6::jsonb, $7::json, $8, case when $8::text is not null then '' end)`,
    [
      id,
      actor,
      note,
      total('matched'),
      total('changed'),
      JSON.stringify(run),
      JSON.stringify(steps),
      job === undefined ? null : chunkKey(job, null),
    ],
  )
}

function bookedStep(target: Target, shape: BulkShape, step: BulkStep, no: number) {
  return {
    no,
    name: null,
    statement: statementId(toKept(shape, step)),
    binds: showableBinds(step.statement.slots, step.binds, target.digestKey),
    expected: step.expected,
    matched: step.matched,
    changed: step.changed,
    skipped: false,
    duration_ms: null,
  }
}

/** Writes a refused job to the book, after its roll-back. @returns the entry's id; null where it could not be written. */
export async function bookRefusedBulk(
  target: Target,
  shape: BulkShape,
  request: BulkRequest,
  header: BulkHeader,
  { problem, report }: BulkRefused,
): Promise<string | null> {
  if (request.mode !== 'commit' || !(await target.isBookPrepared().catch(() => false))) return null
  const isSensitive = shape.mapping.properties.some(({ sensitive }) => sensitive)
  const isWritten = await recordRefusal(target, {
    id: header.id,
    actor: request.actor,
    note: request.note,
    problem,
    detail: isSensitive ? withoutValues(problem.detail) : problem.detail,
    matched: report?.matched ?? null,
    run: runOf(shape, request, header, []),
    steps: [],
  })
  return isWritten ? header.id : null
}

function runOf(shape: BulkShape, request: BulkRequest, header: BulkHeader, steps: readonly BulkStep[]) {
  const { mapping, kind } = shape
  const { chunk, isolation, attempts, durationMs, startedAt, condition } = header
  return {
    transaction: null,
    revision: null,
    isolation,
    attempts,
    durationMs,
    startedAt,
    reversible: bulkReversibility(shape, steps),
    definitions: { [mapping.name]: mapping.revision },
    writes: [{ kind, mapping: mapping.name, where: condition }],
    job: request.job,
    ...(chunk === null ? {} : { chunk }),
    images: shape.images,
    ...(shape.roundings && steps.length > 0 ? { rounded: shape.roundings } : {}),
  }
}

/** Whether all that it wrote can be put back from the images. */
export function bulkReversibility(
  shape: BulkShape,
  steps: readonly Pick<BulkStep, 'kind' | 'changed'>[],
): Receipt['reversible'] {
  const wrote = steps.filter(({ changed }) => changed > 0)
  if (shape.images === 'none' || shape.mapping.key.length === 0) return wrote.length === 0 ? 'yes' : 'no'
  const each = wrote.map(({ kind }) => reversibilityOf(shape.mapping, kind, shape.set))
  if (each.every((one) => one === 'yes')) return 'yes'
  return each.every((one) => one === 'no') ? 'no' : 'partly'
}

/** What stands in the book of a job, or of a chunk of it. */
export interface BookedPart {
  entry: string
  report: JobReport
}

/** What it was, as if it had been run just now. */
export function resultOf({ entry, report }: BookedPart): BulkResult {
  return { entry, report, evidence: { matched: report.matched, digest: null } }
}

type WhoseJob = Pick<BulkRequest, 'job' | 'actor'>

/** The report of a chunk that is in the book already, of the whole job where it has none; undefined where it is not. */
export async function findBookedChunk(
  session: Queryable,
  { job, actor }: WhoseJob,
  chunk: number | null,
): Promise<BookedPart | undefined> {
  const { rows } = await session.query(
    `select id, (run->'report'::text)::text, matched, changed from ledgerman.entry where actor = $1 and request_key = $2 and outcome = 'committed'`,
    [actor, chunkKey(job, chunk)],
  )
  const [entry, report, matched, changed] = rows[0] ?? []
  if (!entry) return undefined
  // A reversal tells in its steps what it did.
  if (!report) return { entry, report: { ...emptyReport(), matched: Number(matched), changed: Number(changed) } }
  return { entry, report: parsePrinted(report) as unknown as JobReport }
}

/**
 * The same, asked for on its own, where whoever ran the job does not tell what it committed.
 *
 * @throws LedgermanProblem target-unavailable, target-denied, book-not-prepared
 */
export async function findBookedPart(
  target: Target,
  whose: WhoseJob,
  chunk: number | null,
): Promise<BookedPart | undefined> {
  const book = { query: (text: string, values?: readonly (string | null)[]) => target.readBook(text, values) }
  try {
    return await findBookedChunk(book, whose, chunk)
  } catch (error) {
    throw target.explain(error)
  }
}
