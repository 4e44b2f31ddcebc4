import { fileInvalid, LedgermanProblem, type FailedRow, type Images } from '@ledgerman/contract'
import type { Mapping, Property } from '../mapping/mapping.js'
import { Links } from '../mapping/links.js'
import { shownRecord } from '../mapping/record-row.js'
import { showable } from '../mapping/showable.js'
import { isDatabaseError } from '../sessions/database-error.js'
import { copyPlace } from '../sessions/database-words.js'
import { Aliases, Joins } from '../statement/joins.js'
import { touchedBy } from '../statement/keyed-statement.js'
import type { Target } from '../target/target.js'
import { storedSql } from '../values/sql-form.js'
import type { ColumnType } from '../values/column-type.js'
import { bookRefusedBulk, findBookedChunk, resultOf, type BulkHeader } from './book-bulk.js'
import { newEntryId } from '../book/entry-id.js'
import {
  BulkRefused,
  emptyReport,
  joinReports,
  nothingGiven,
  type BulkRequest,
  type BulkResult,
} from './bulk-request.js'
import { inLineOrder } from './told-rows.js'
import { BulkSession, type BulkTask } from './bulk-session.js'
import { givenColumn, type BulkShape, type GivenShape } from './bulk-shape.js'
import { SHOWN_ROWS } from './find-statements.js'
import { sameGivenSql } from './found-rows.js'
import { KeysUnchecked } from './unit-options.js'

/** A file of corrections that was read: every value is of its column's type. */
export interface FileJob {
  mapping: Mapping
  given: GivenShape
  images: Images
  /** Rows a transaction; null for all or nothing. */
  chunk: number | null
  rows: number
  /** The rows in COPY's text format, as `copyLine` writes them. */
  read: () => AsyncIterable<Buffer | string>
}

/** Told of each chunk of a file. */
export interface ChunkHooks {
  /** The chunks that are known to be done, from 1. */
  done: number
  /** Told before a chunk is committed which of its rows were left, so that it can be kept. */
  onFailed: (chunk: number, failed: readonly FailedRow[]) => Promise<void>
  onChunk: (chunk: number, result: BulkResult) => Promise<void>
}

/** @throws LedgermanProblem book-not-prepared, request-invalid */
export async function assertFileJob(
  target: Target,
  job: Pick<FileJob, 'mapping' | 'given'>,
  isCommit: boolean,
): Promise<void> {
  if (isCommit) await target.assertBook()
  const { mapping, given } = job
  if (!given.addsMissing) return
  const lost = mapping.properties.filter(
    ({ column, lockedForAddBecause, name }) =>
      lockedForAddBecause === null &&
      column.notNull &&
      column.default === null &&
      column.identity === null &&
      !given.properties.some((property) => property.name === name),
  )
  if (lost.length > 0)
    throw new LedgermanProblem(
      'file-invalid',
      `A new ${mapping.name} needs ${lost.map(({ name }) => name).join(', ')} as well; the file has no such ${lost.length === 1 ? 'column' : 'columns'}. Nothing was changed.`,
      { line: 1, column: null, found: 'no column for it', expected: lost.map(({ name }) => name).join(', ') },
    )
}

/**
 * Applies a file: its rows are copied into a temporary table, checked there against the records, and applied by one statement, or by one
 * a chunk.
 *
 * @returns what all of it did; of a file that goes in chunks, what the chunks of this call did.
 * @throws BulkRefused, LedgermanProblem
 */
export async function runFileJob(
  target: Target,
  job: FileJob,
  request: BulkRequest,
  hooks: ChunkHooks,
): Promise<BulkResult> {
  const shape = shapeOf(job)
  const task: BulkTask = { target, shape, request, given: nothingGiven, condition: null }
  return BulkSession.within(task, async (session) => {
    const isWhole = job.chunk === null || request.mode === 'rehearse'
    const known =
      request.mode === 'commit' && isWhole ? await findBookedChunk(session.session, request, null) : undefined
    if (known) return resultOf(known)
    await copyRows(session, job)
    const range = { first: 1, last: job.rows }
    if (job.chunk === null && request.mode === 'commit' && !request.rehearsed) {
      const done = await session
        .run(null, { expect: 'any', leavesFailed: false, range, count: job.rows, areKeysUnchecked: true })
        .catch((error: unknown) => {
          if (!(error instanceof KeysUnchecked)) throw error
        })
      if (done) return done
    }
    const { rows: twice, count: ambiguous } = await findTwice(session, job)
    if (ambiguous > 0 && (job.chunk === null || ambiguous > MOST_TWICE))
      throw await refusedFor(session, job, twice, ambiguous)
    if (isWhole) {
      const count = job.rows - twice.length
      const result = await session.run(null, {
        expect: 'any',
        leavesFailed: job.chunk !== null,
        range,
        count,
        rehearsed: request.rehearsed,
      })
      return { ...result, report: withTwice(result.report, twice) }
    }
    // Where a chunk of it is committed already, nothing is as it was rehearsed any more.
    if (request.rehearsed && hooks.done === 0 && !(await findBookedChunk(session.session, request, 1))) {
      const options = { expect: 'any', leavesFailed: true, isOnlyJudged: true, rehearsed: request.rehearsed } as const
      await session.run(null, { ...options, range: { first: 1, last: job.rows }, count: job.rows - twice.length })
    }
    return runChunks(session, job, hooks, twice)
  })
}

/** One chunk after the other, in the order of the file, from the first that is not done. */
async function runChunks(
  session: BulkSession,
  job: FileJob,
  hooks: ChunkHooks,
  twice: readonly TwiceRow[],
): Promise<BulkResult> {
  const { request } = session.task
  const size = job.chunk ?? job.rows
  let all: BulkResult = { report: emptyReport(), evidence: { matched: 0, digest: null }, entry: null }
  for (let chunk = hooks.done + 1; (chunk - 1) * size < job.rows; chunk++) {
    const range = { first: (chunk - 1) * size + 1, last: Math.min(job.rows, chunk * size) }
    const own = twice.filter(({ no }) => no >= range.first && no <= range.last)
    // Whoever ran this job before may have committed it without having told.
    const known = chunk === hooks.done + 1 ? await findBookedChunk(session.session, request, chunk) : undefined
    const result: BulkResult = known
      ? resultOf(known)
      : await session.run(
          chunk,
          { expect: 'any', leavesFailed: true, range, count: range.last - range.first + 1 - own.length },
          ({ failed }) => hooks.onFailed(chunk, [...failed, ...own.map(({ row }) => row)]),
        )
    const told = { ...result, report: withTwice(result.report, own) }
    all = { ...told, report: joinReports(all.report, told.report) }
    await hooks.onChunk(chunk, told)
  }
  return all
}

function withTwice(report: BulkResult['report'], twice: readonly TwiceRow[]): BulkResult['report'] {
  if (twice.length === 0) return report
  const sample = inLineOrder([...report.sample, ...twice.map(({ row }) => row)])
  return { ...report, ambiguous: report.ambiguous + twice.length, sample: sample.slice(0, SHOWN_ROWS) }
}

/** Copies the rows into the temporary table, with what the planner has to know of it. */
async function copyRows({ session, task }: BulkSession, job: FileJob): Promise<void> {
  const { given, mapping } = job
  const columns = given.properties.map((property) => {
    // Keys that the column holds to be the same are the same here.
    const { collation } = property.column
    return `${givenColumn(given, property)} ${givenType(property)}${collation === null ? '' : ` collate ${collation}`}`
  })
  const guard = given.hasGuard ? ', guard text' : ''
  await session.query(`create temporary table ledgerman_given (no bigint, line bigint, ${columns.join(', ')}${guard})`)
  let copied = 0
  const counted = async function* () {
    for await (const part of job.read()) {
      yield part
      copied += typeof part === 'string' ? part.split('\n').length - 1 : countLines(part)
      task.request.onProgress({ phase: 'copying', rows: copied, total: job.rows })
    }
  }
  try {
    await session.copyIn('copy pg_temp.ledgerman_given from stdin', counted())
  } catch (error) {
    throw placed(error, mapping, given)
  }
  if (job.chunk !== null) await session.query('create index on pg_temp.ledgerman_given (no)')
  // A rough idea of its keys is enough, and costs a tenth.
  await session.query('set default_statistics_target = 10')
  await session.query('analyze pg_temp.ledgerman_given')
  await session.query('reset default_statistics_target')
}

function countLines(part: Buffer): number {
  let count = 0
  for (let at = part.indexOf(10); at >= 0; at = part.indexOf(10, at + 1)) count++
  return count
}

/** A value that only the database knows to be none: COPY says in which row and column. */
function placed(error: unknown, mapping: Mapping, given: GivenShape): unknown {
  if (!isDatabaseError(error)) return error
  const place = copyPlace(error, 'ledgerman_given')
  const property = place && given.properties[place.column - 1]
  if (!place || !property) return error
  const says = property.sensitive ? 'its value is none of its type' : error.message
  const column = mapping.key.length === 0 ? null : place.column
  return fileInvalid(place.line + 1, column, `${property.name}: ${says}`, property.column.type.sql)
}

/** Rows whose key stands there more than once are told one by one up to so many; with more, nothing of the file is applied. */
const MOST_TWICE = 100_000

/** A row with the key of another one. */
interface TwiceRow {
  no: number
  row: FailedRow
  /** The line of the other one. */
  other: number
}

/** The rows of which the file has another with the same key; they are taken out of the temporary table. */
async function findTwice({ session, task }: BulkSession, job: FileJob): Promise<{ rows: TwiceRow[]; count: number }> {
  const { mapping, given } = job
  const keys = mapping.key.map((property) => givenColumn(given, property)).join(', ')
  const { rows: some } = await session.query(
    `select 1 from pg_temp.ledgerman_given group by ${keys} having pg_catalog.count(*) > 1 limit 1`,
  )
  if (some.length === 0) return { rows: [], count: 0 }
  const same = `select no, line, ${keys}, pg_catalog.count(*) over same as rows, pg_catalog.min(line) over same as first, pg_catalog.max(line) over same as last
  from pg_temp.ledgerman_given window same as (partition by ${keys})`
  const { rows } = await session.query(
    `select no, line, first, last, ${keys} from (\n  ${same}\n) as counted where rows > 1 order by no limit ${MOST_TWICE}`,
  )
  // Which of them is meant nobody knows: none of them is applied.
  const { rowCount } = await session.query(
    `delete from pg_temp.ledgerman_given where no in (select no from (\n  ${same}\n) as counted where rows > 1)`,
  )
  const twice = rows.map(([no, line, first, last, ...key]) => {
    const other = Number(line === first ? last : first)
    const why = { reason: `Line ${other} has the same key.`, code: 'record-ambiguous' as const }
    return { no: Number(no), other, row: { line: Number(line), key: keyOf(task.target, mapping, key), ...why } }
  })
  return { rows: twice, count: rowCount ?? twice.length }
}

/** A file in which keys stand more than once: those rows are told, and with them whatever else stands in its way. */
async function refusedFor(session: BulkSession, job: FileJob, twice: readonly TwiceRow[], ambiguous: number) {
  const { target, shape, request } = session.task
  let others: readonly FailedRow[] = []
  const { report: judged } = await session.run(
    null,
    {
      expect: 'any',
      leavesFailed: true,
      isOnlyJudged: true,
      range: { first: 1, last: job.rows },
      count: job.rows - ambiguous,
    },
    ({ failed: told }) => {
      others = told
      return Promise.resolve()
    },
  )
  const failed = inLineOrder([...twice.map(({ row }) => row), ...others])
  const [first] = twice
  const key = Object.values(first?.row.key ?? {}).map(String)
  const report = { ...judged, ambiguous: judged.ambiguous + ambiguous, changed: 0, sample: failed.slice(0, SHOWN_ROWS) }
  const more = ambiguous + others.length - 2
  const problem = new LedgermanProblem(
    'record-ambiguous',
    `Lines ${first?.row.line} and ${first?.other} have the same key, ${key.join(',')}. Which one is meant? Take the other out.${more > 0 ? ` ${more} more ${more === 1 ? 'row' : 'rows'} cannot be applied either.` : ''} Nothing was changed.`,
    { mapping: job.mapping.name, line: first?.row.line, key: first?.row.key, failed: ambiguous + others.length },
  )
  const refused = new BulkRefused(problem, report, failed)
  const startedAt = new Date().toISOString()
  const header: BulkHeader = {
    id: newEntryId(),
    startedAt,
    chunk: null,
    isolation: 'read committed',
    attempts: 1,
    durationMs: null,
    condition: null,
  }
  refused.entry = await bookRefusedBulk(target, shape, request, header, refused)
  return refused
}

function keyOf(target: Target, { key }: Mapping, texts: readonly (string | null | undefined)[]) {
  return shownRecord(
    key,
    key.map((property, at) => showable(target, property, texts[at] ?? null)),
  )
}

function shapeOf({ mapping, given, images }: FileJob): BulkShape {
  const { set } = given
  const links = new Links()
  return {
    mapping,
    kind: 'change',
    images,
    set,
    touched: touchedBy(mapping, set),
    newJoins: () => new Joins(mapping, 't', links, new Aliases()),
    news: () => set.map((property) => storedSql(`g.${givenColumn(given, property)}`, property.column.type)),
    condition: () => mapping.key.map((property) => sameGivenSql(property, given)).join(' and '),
    given,
    checksLeftOut: false,
  }
}

/** The type of a column of the temporary table: that of the text form a value has here. */
export function givenType({ column: { type }, key }: Property): string {
  const isMoney = (of: Pick<ColumnType, 'kind'>) => of.kind === 'money'
  if (isMoney(type)) return 'numeric'
  if (type.element && isMoney(type.element)) return 'numeric[]'
  return key ? type.comparable : type.sql
}
