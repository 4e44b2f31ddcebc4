import { z } from 'zod'
import { receipt, RUN_MODES, values } from '../receipt/receipt.js'

/** Property values of one record. */
export const record = values.meta({ id: 'Record' })

export const foundRecords = z.strictObject({
  found: z.array(record),
  next: z.string().nullable().describe('Give it as `after` for the next page; null at the end.'),
})

export const loadedRecord = z.strictObject({
  record,
  guard: z.string().nullable().describe('The ETag without its quotes; null where the mapping has no guard.'),
})

export const changedRecord = z.strictObject({ record, guard: z.string().nullable(), receipt })

/** Rows a page may have: 50 where nothing is said, at most 1000. */
export const findQuery = z.strictObject({
  limit: z.coerce.number().int().min(1).max(1000).default(50),
  after: z.string().min(1).optional(),
})

export const changeQuery = z.looseObject({
  mode: z.enum(RUN_MODES).default('commit').describe('A rehearsal is always rolled back.'),
})

export type RecordValues = z.output<typeof record>
export type FoundRecords = z.output<typeof foundRecords>
export type LoadedRecord = z.output<typeof loadedRecord>
export type ChangedRecord = z.output<typeof changedRecord>
