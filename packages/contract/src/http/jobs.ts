import { z } from 'zod'
import { byName } from '../definition/by-name.js'
import { definitionName } from '../definition/mapping-definition.js'
import { expectation } from '../definition/transaction-definition.js'
import { problemDocument } from '../problem/problem-schema.js'
import { PROBLEM_CODES } from '../problem/catalogue.js'
import { RUN_MODES } from '../receipt/receipt-kinds.js'
import { roundings, rowReceipt, values, writtenWithIt } from '../receipt/receipt.js'
import { IMAGES, JOB_KINDS, JOB_STATES, LARGEST_CHUNK, ON_MISSING } from './job-kinds.js'

const images = z
  .enum(IMAGES)
  .default('changed')
  .describe('What the book keeps of each row: all of it, its key and what the change touched, or nothing.')
const note = z.string().max(2000).optional().describe('Kept with the entry.')
const rehearsal = z.string().optional().describe("A rehearsal's token: commit exactly what it saw, or fail.")
const mode = z.enum(RUN_MODES).describe('A rehearsal tries all of it and rolls back.')

/** A change or removal of all records that match a condition. */
export const jobInput = z
  .strictObject({
    mode,
    mapping: definitionName,
    where: z.string().min(1).max(10_000).optional(),
    params: byName(z.string(), z.unknown()).optional(),
    values: byName(definitionName, z.unknown()).optional().describe('Literal values.'),
    compute: byName(definitionName, z.union([z.string().min(1).max(10_000), z.number(), z.boolean()]))
      .optional()
      .describe("Expressions over the row's own values and the parameters."),
    remove: z.boolean().optional().describe('Removes the records that match the condition.'),
    expect: expectation
      .optional()
      .describe('How many rows it has to match; a commit without it needs the token of a rehearsal.'),
    everyRow: z.boolean().optional().describe('Needed without a condition, and where it leaves no row out.'),
    images,
    note,
    rehearsal,
  })
  .meta({ id: 'JobInput' })

/** What is asked of a file of corrections, beside the file. */
export const jobFileQuery = z.strictObject({
  mapping: definitionName.optional(),
  mode: z.enum(RUN_MODES).optional(),
  images: z.enum(IMAGES).optional(),
  chunk: z.coerce
    .number()
    .int()
    .min(1)
    .max(LARGEST_CHUNK)
    .optional()
    .describe('Commits so many rows at a time, in file order; rows that fail are reported and left.'),
  guard: z.string().min(1).optional().describe("The column that holds each row's guard."),
  onMissing: z.enum(ON_MISSING).optional().describe('What becomes of rows whose record is not there.'),
  delimiter: z
    .enum([',', ';', '\t', '|'])
    .optional()
    .describe('What stands between two fields of a CSV file, where it is no comma.'),
  note,
  rehearsal,
})

const failedRow = z.strictObject({
  line: z.int().nullable().describe('In the file; null for a change by condition.'),
  key: values,
  reason: z.string(),
  code: z.enum(PROBLEM_CODES),
})

const jobReport = z.strictObject({
  matched: z.int().describe('Rows that were found.'),
  changed: z.int().describe('Rows that were written: changed, added or removed.'),
  same: z.int().describe('Rows that had these values already, and were not written.'),
  added: z.int().describe('Of those written, the ones that were not there before.'),
  notFound: z.int(),
  ambiguous: z.int().describe('Rows of the file whose key stands there more than once.'),
  refused: z.int().describe('Rows that a guard, a rule or a constraint refused.'),
  sample: z.array(failedRow).describe('Rows that were not applied, at most 100.'),
  rows: z.array(rowReceipt).describe('What changed, row by row: the first 100 in key order.'),
  rounded: roundings.optional(),
  writtenWithIt: writtenWithIt.optional(),
  notShown: z
    .array(z.string())
    .optional()
    .describe(
      'What may have been written beside these rows, and was not counted: by which trigger, rule or foreign key.',
    ),
})

export const job = z
  .strictObject({
    id: z.string(),
    target: z.string(),
    mapping: z.string(),
    kind: z.enum(JOB_KINDS),
    mode: z.enum(RUN_MODES),
    state: z.enum(JOB_STATES),
    actor: z.string(),
    note: z.string().nullable(),
    condition: z.string().nullable().describe('Of a change by condition: which.'),
    startedAt: z.string().nullable(),
    endedAt: z.string().nullable(),
    progress: z.strictObject({
      rows: z.int().describe('Rows that are through.'),
      total: z.int().nullable().describe('Null as long as it is not known.'),
      perSecond: z.number().nullable(),
      remainingMs: z.number().nullable(),
      chunk: z.int().nullable().describe('The last chunk that was committed, from 1.'),
      phase: z.string().nullable().describe('What is being done.'),
    }),
    entries: z.array(z.string()).describe('Ids of the entries that it left in the book.'),
    rehearsal: z.string().nullable(),
    report: jobReport.nullable(),
    problem: problemDocument.nullable(),
  })
  .meta({ id: 'Job' })

export const jobList = z.strictObject({ jobs: z.array(job), next: z.string().nullable() })

export const jobQuery = z.strictObject({
  target: z.string().min(1).optional(),
  state: z.enum(JOB_STATES).optional(),
  limit: z.coerce.number().int().min(1).max(200).default(50),
  after: z.uuid().optional().describe('The `next` of the page before.'),
})

export type Job = z.output<typeof job>
export type JobReport = z.output<typeof jobReport>
export type FailedRow = z.output<typeof failedRow>
export type JobProgress = Job['progress']
export type JobInput = z.output<typeof jobInput>
export type JobFileQuery = z.output<typeof jobFileQuery>
export type JobList = z.output<typeof jobList>
export type JobQuery = z.output<typeof jobQuery>
