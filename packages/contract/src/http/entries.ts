import { z } from 'zod'
import { receipt } from '../receipt/receipt.js'
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
    condition: z.string().nullable().describe('Of a change or removal by condition that was sent with its run: which.'),
    note: z.string().nullable(),
  })
  .meta({ id: 'EntrySummary' })

export const entryInfo = z
  .strictObject({
    ...entrySummary.shape,
    detail: z.string().nullable().describe("The refusal's own words."),
    receipt,
  })
  .meta({ id: 'Entry' })

export const entryList = z.strictObject({
  entries: z.array(entrySummary),
  next: z.string().nullable(),
})

export const entryQuery = z.strictObject({
  limit: z.coerce.number().int().min(1).max(1000).default(50),
  after: z.string().min(1).optional(),
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
