import { z } from 'zod'
import { OUTCOMES, RUN_MODES, STEP_KINDS } from './receipt-kinds.js'

/** Property values by name. Values have the JSON form that docs/values.md lists. */
export const values = z.record(z.string(), z.unknown())

export const bindReceipt = z.strictObject({
  position: z.int().describe('The n of $n in the statement.'),
  name: z.string(),
  type: z.string(),
  value: z.unknown().describe('As sent to the database, in text form; sensitive values only as a digest.'),
})

/** A statement in short, as one would have written it by hand: shown first, and not what was run. */
export const shortStatement = z.strictObject({
  statement: z.string(),
  binds: z.array(bindReceipt),
  around: z.array(z.string()).describe('What the whole statement does beside it, a sentence each.'),
})

export const rowReceipt = z.strictObject({
  key: values,
  before: values.nullable(),
  after: values.nullable(),
  alsoChanged: z
    .strictObject({ before: values, after: values })
    .optional()
    .describe(
      'What changed beside the properties that were set: the version, and what triggers and generated columns wrote.',
    ),
  guard: z.string().nullable().optional().describe('Of the record as it was written, where it was.'),
})

const stepReceipt = z.strictObject({
  no: z.int(),
  kind: z.enum(STEP_KINDS),
  mapping: z.string().nullable(),
  as: z.string().nullable(),
  skipped: z.boolean(),
  statement: z.string(),
  binds: z.array(bindReceipt),
  short: shortStatement
    .optional()
    .describe('The statement in a few lines; absent where the statement itself is as short.'),
  expected: z.string(),
  matched: z.int().nullable(),
  changed: z.int().nullable(),
  durationMs: z.number().nullable(),
  rows: z
    .array(rowReceipt)
    .describe(
      'At most 100; the rest are in the book. Of a load what was read stands in `before`, and `after` is null.',
    ),
  leftOut: z
    .array(values)
    .optional()
    .describe('Keys of rows that were locked by others and so left out (lockWait: skip).'),
})

export const roundings = z
  .array(z.strictObject({ step: z.int(), property: z.string(), to: z.string().describe('The type of its column.') }))
  .describe(
    'Computed values that can have more decimals, digits of a second or fields of an interval than their column keeps, and were rounded.',
  )

export const writtenWithIt = z
  .array(z.strictObject({ table: z.string(), added: z.int(), changed: z.int(), removed: z.int() }))
  .describe(
    'Of a rehearsal: rows that triggers, rules and foreign keys wrote in the same transaction beside those of its steps, as the server counted them.',
  )

/** The evidence a run returns. */
export const receipt = z
  .strictObject({
    id: z.string(),
    target: z.string(),
    mode: z.enum(RUN_MODES),
    outcome: z.enum(OUTCOMES),
    transaction: z.string().nullable(),
    revision: z.int().nullable().describe('Of the transaction, or of the mapping where a single record is changed.'),
    actor: z.string(),
    note: z.string().nullable(),
    startedAt: z.string(),
    durationMs: z.number().nullable(),
    attempts: z.int(),
    isolation: z.string(),
    replayed: z.boolean(),
    steps: z.array(stepReceipt),
    rehearsal: z.string().nullable(),
    entry: z
      .string()
      .nullable()
      .describe(
        'Where the entry stands in the book; null for a rehearsal, and for a refusal that could not be written there.',
      ),
    reversible: z.enum(['yes', 'partly', 'no']).nullable(),
    reverses: z.array(z.string()).optional().describe('The entries that it put back, the newest first.'),
    leftAsIs: z
      .array(z.strictObject({ mapping: z.string(), key: values, reason: z.string() }))
      .optional()
      .describe('Of a reversal of what is unchanged only: rows that were changed since, and left, at most 100.'),
    confirmed: z
      .strictObject({
        rows: z.int().describe('Rows that were written and read back.'),
        asWritten: z.int(),
        writtenAgainSince: z.int().describe('Rows that another entry wrote after this run.'),
      })
      .optional()
      .describe('What a second session reads, where that was asked for.'),
    writtenWithIt: writtenWithIt.optional(),
    notShown: z
      .array(z.string())
      .optional()
      .describe(
        'What happened and cannot be shown here, and why: a value that JSON cannot carry, a book that could not be read.',
      ),
    rounded: roundings.optional(),
    definitions: z
      .record(z.string(), z.int())
      .optional()
      .describe('The mappings that were used, each with its revision.'),
  })
  .meta({ id: 'Receipt' })

export type Receipt = z.output<typeof receipt>
export type StepReceipt = z.output<typeof stepReceipt>
export type RowReceipt = z.output<typeof rowReceipt>
export type BindReceipt = z.output<typeof bindReceipt>
export type ShortStatement = z.output<typeof shortStatement>
