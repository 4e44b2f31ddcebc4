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

export const removedRecord = z.strictObject({ receipt })

const pointer = z.string().describe('A JSON Pointer (RFC 6901), such as /hoursLeft or /settings/readout.')
const operationValue = z.unknown().refine((value) => value !== undefined, { message: 'expected a value' })

/** JSON Patch (RFC 6902). A `test` is a compare-and-set: it has to hold when the change is written. */
export const jsonPatch = z
  .array(
    z.discriminatedUnion('op', [
      z.looseObject({ op: z.literal('add'), path: pointer, value: operationValue }),
      z.looseObject({ op: z.literal('replace'), path: pointer, value: operationValue }),
      z.looseObject({ op: z.literal('test'), path: pointer, value: operationValue }),
      z.looseObject({ op: z.literal('remove'), path: pointer }),
      z.looseObject({ op: z.literal('move'), from: pointer, path: pointer }),
      z.looseObject({ op: z.literal('copy'), from: pointer, path: pointer }),
    ]),
  )
  .max(1000)
  .meta({ id: 'JsonPatch' })

/** Properties to set, and what was loaded of them or of others: a difference refuses, and is shown. */
export const setAndLoaded = z.strictObject({ set: record, loaded: record.optional() }).meta({ id: 'SetAndLoaded' })

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
export type SetAndLoaded = z.output<typeof setAndLoaded>
export type RemovedRecord = z.output<typeof removedRecord>
export type ChangedRecord = z.output<typeof changedRecord>
