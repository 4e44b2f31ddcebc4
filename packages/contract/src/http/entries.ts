import { z } from 'zod'
import { RUN_MODES, STEP_KINDS } from '../receipt/receipt-kinds.js'
import { receipt, rowReceipt } from '../receipt/receipt.js'
import { PROBLEM_CODES } from '../problem/catalogue.js'

export const ENTRY_OUTCOMES = ['committed', 'refused'] as const

export const entrySummary = z
  .strictObject({
    id: z.string(),
    at: z.string(),
    actor: z.string(),
    outcome: z.enum(ENTRY_OUTCOMES),
    problem: z.enum(PROBLEM_CODES).nullable().describe('Why it was refused.'),
    transaction: z.string().nullable(),
    kind: z.string(),
    mapping: z.string().nullable(),
    key: z.record(z.string(), z.unknown()).nullable(),
    matched: z.int().nullable(),
    changed: z.int().nullable().describe('Rows that were changed; none where it was refused.'),
    condition: z
      .string()
      .nullable()
      .describe(
        'Of a change or removal by condition that was sent with its run: which. Of a reversal of several entries: how many. Of what a file changed: that it came from one.',
      ),
    note: z.string().nullable(),
  })
  .meta({ id: 'EntrySummary' })

export const entryInfo = z
  .strictObject({
    ...entrySummary.shape,
    detail: z.string().nullable().describe("The refusal's own words."),
    reversedBy: z.array(z.string()).describe('Entries that put it back, the newest first.'),
    receipt,
  })
  .meta({ id: 'Entry' })

export const entryList = z.strictObject({
  entries: z.array(entrySummary),
  next: z.string().nullable(),
})

const { key, before, after } = rowReceipt.shape

export const entryRow = z
  .strictObject({
    step: z.int().describe("The step's number in the receipt."),
    kind: z.enum(STEP_KINDS),
    mapping: z.string().nullable(),
    key,
    before: before.describe(
      'What differs, as it was: the version too, and what triggers wrote. Null where the row was added.',
    ),
    after: after.describe('The same as it is. Null where the row was removed.'),
  })
  .meta({ id: 'EntryRow' })

export const entryRows = z.strictObject({ rows: z.array(entryRow), next: z.string().nullable() })

export const entryRowsQuery = z.strictObject({
  limit: z.coerce.number().int().min(1).max(1000).optional().describe('Rows of a page; 50 where it is left out.'),
  after: z.string().optional().describe('The `next` of the page before.'),
})

export const entryQuery = z.strictObject({
  limit: z.coerce.number().int().min(1).max(1000).optional().describe('50 where it is left out.'),
  after: z.uuid().optional().describe('The `next` of the page before.'),
  outcome: z
    .enum([...ENTRY_OUTCOMES, ...PROBLEM_CODES])
    .optional()
    .describe('committed, refused, or the code that an entry was refused with.'),
  actor: z.string().optional(),
  mapping: z.string().optional(),
  transaction: z.string().optional(),
  from: z.iso.datetime({ offset: true }).optional(),
  until: z.iso.datetime({ offset: true }).optional(),
  key: z.string().optional().describe("The record's key as it stands in its address; needs `mapping`."),
})

export type EntrySummary = z.output<typeof entrySummary>
export type EntryInfo = z.output<typeof entryInfo>
export type EntryList = z.output<typeof entryList>
export type EntryRow = z.output<typeof entryRow>
export type EntryRows = z.output<typeof entryRows>

const reversalParts = {
  mode: z.enum(RUN_MODES).describe('A rehearsal shows what would be put back, and is rolled back.'),
  onlyUnchanged: z.boolean().optional().describe('Puts back what is as the entry left it, and says what it left.'),
  note: z.string().max(2000).optional().describe('Kept with the entry.'),
  rehearsal: z.string().optional().describe("A rehearsal's token: put back exactly what it saw, or refuse."),
}

export const reversalInput = z.strictObject(reversalParts).meta({ id: 'ReversalInput' })

/** Everything since an entry, or since a moment, the newest first. */
export const reversalsInput = z
  .strictObject({
    ...reversalParts,
    since: z.string().min(1).describe('An instant (RFC 3339), or the id of the first entry that is put back.'),
    until: z.iso.datetime({ offset: true }).optional(),
    mapping: z.string().optional(),
    transaction: z.string().optional(),
    actor: z.string().optional(),
  })
  .meta({ id: 'ReversalsInput' })

export type ReversalInput = z.output<typeof reversalInput>
export type ReversalsInput = z.output<typeof reversalsInput>
