import { z } from 'zod'
import { byName } from '../definition/by-name.js'
import { refuseMember } from '../problem/check-input.js'
import { RUN_MODES } from '../receipt/receipt-kinds.js'
import { bindReceipt, receipt, values } from '../receipt/receipt.js'

/** Property values of one record. */
export const record = values.meta({ id: 'Record' })

export const foundRecords = z.strictObject({
  found: z.array(record),
  next: z.string().nullable().describe('Give it as `after` for the next page; null at the end.'),
  count: z.int().optional().describe('How many fit in all, where it was asked for.'),
  isEstimate: z.boolean().optional().describe('Whether the count is what the planner estimates, rather than counted.'),
})

/** A statement before it is run. */
export const explained = z
  .strictObject({
    statement: z.string(),
    binds: z.array(bindReceipt),
    index: z.enum(['serves', 'partly', 'not used']).describe('Whether indexes find the rows.'),
    message: z.string().describe('How the rows are found, in plain words; a line for each table.'),
    plan: z.string().describe("PostgreSQL's own plan."),
  })
  .meta({ id: 'Explained' })

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

const expression = z.string().max(10_000)
const findParts = {
  find: z.string().max(100).optional().describe('A find that the mapping names, in place of `where`.'),
  where: expression.optional().describe('An expression over the properties, see docs/expressions.md.'),
  limit: z.coerce.number().int().min(1).max(1000).optional().describe('Rows of a page; 50 where not said.'),
  after: z.string().min(1).optional().describe('The `next` of the page before.'),
  expect: z.literal('one').optional().describe('Exactly one record has to fit.'),
  count: z.enum(['all', 'about']).optional().describe('How many fit in all, counted or about.'),
}
const truth = z.enum(['true', 'false']).transform((text) => text === 'true')

/** What a find is asked for in an address; the parameters as `params.NAME`, or `bind.NAME`. */
export const findQuery = z
  .strictObject({
    ...findParts,
    order: z
      .string()
      .max(1000)
      .optional()
      .describe('Such as `hoursLeft desc,code`; nulls last ascending, first descending.'),
    properties: z.string().max(10_000).optional().describe('Such as `code,lead.familyName`.'),
    explain: truth.optional().describe('Show how it would be found, without finding it.'),
    withGuard: truth
      .optional()
      .describe('Of an export as NDJSON or CSV: the guard of each record as a column behind the others.'),
  })
  .catchall(z.union([z.string(), z.array(z.string())]))
  .superRefine((query, context) => {
    for (const name of Object.keys(query))
      if (!Object.hasOwn(FIND_MEMBERS, name) && !/^(?:bind|params)\.[\p{L}_][\p{L}\p{N}_]*$/u.test(name))
        refuseMember(context, name, Object.keys(FIND_MEMBERS))
  })

const FIND_MEMBERS = { ...findParts, order: 0, properties: 0, explain: 0, withGuard: 0 }

/** The same in a body, for what should not stand in an address. */
export const findBody = z
  .strictObject({
    ...findParts,
    limit: z.int().min(1).max(1000).optional(),
    params: byName(z.string(), z.unknown()).optional().describe('Values of the parameters, by name.'),
    bind: byName(z.string(), z.unknown()).optional().describe('Another word for `params`.'),
    order: z.union([z.string().max(1000), z.array(z.string()).max(8)]).optional(),
    properties: z.union([z.string().max(10_000), z.array(z.string()).max(1000)]).optional(),
    explain: z.boolean().optional(),
    withGuard: z
      .boolean()
      .optional()
      .describe('Of an export as NDJSON or CSV: the guard of each record as a column behind the others.'),
  })
  .meta({ id: 'Find' })

/** The key's values by name, for a key that a path cannot carry; every other name is refused. */
function withKey<Shape extends z.ZodRawShape>(shape: Shape) {
  return z
    .strictObject(shape)
    .catchall(z.string())
    .superRefine((query, context) => {
      for (const name of Object.keys(query))
        if (!Object.hasOwn(shape, name) && !name.startsWith('key.')) refuseMember(context, name, Object.keys(shape))
    })
}

export const loadQuery = withKey({
  by: z.string().optional().describe('Another unique key than that of the mapping: its properties, joined by commas.'),
  explain: truth.optional().describe('Show how it would be loaded, without loading it.'),
  'as-of': z.iso
    .datetime({ offset: true })
    .optional()
    .describe('The record as it was at that moment, out of the book.'),
})

export const rowWaitsQuery = withKey({})

export const historyQuery = withKey({
  property: z.string().min(1).optional().describe('Only changes of this property.'),
  from: z.iso.datetime({ offset: true }).optional(),
  until: z.iso.datetime({ offset: true }).optional(),
  after: z
    .string()
    .regex(/^\d{1,9}$/, 'expected the `next` of the page before')
    .optional()
    .describe('The `next` of the page before.'),
  limit: z.coerce.number().int().min(1).max(500).default(50),
})

const writeParts = {
  mode: z.enum(RUN_MODES).default('commit').describe('A rehearsal is always rolled back.'),
  rehearsal: z.string().min(1).optional().describe("A rehearsal's token: commit exactly what it saw, or refuse."),
  note: z.string().max(2000).optional().describe('Kept with the entry.'),
}

/** A rehearsal looks again: it takes no token of an earlier one. */
function withoutToken(query: { mode?: unknown; rehearsal?: unknown }): boolean {
  return query.mode !== 'rehearse' || query.rehearsal === undefined
}
const TOKEN_OF_COMMIT = { message: 'it goes with a commit, not with another rehearsal', path: ['rehearsal'] }

export const changeQuery = withKey(writeParts).refine(withoutToken, TOKEN_OF_COMMIT)

export const addQuery = z.strictObject(writeParts).refine(withoutToken, TOKEN_OF_COMMIT)

export type RecordValues = z.output<typeof record>
export type FoundRecords = z.output<typeof foundRecords>
export type LoadedRecord = z.output<typeof loadedRecord>
export type SetAndLoaded = z.output<typeof setAndLoaded>
export type RemovedRecord = z.output<typeof removedRecord>
export type ChangedRecord = z.output<typeof changedRecord>
export type Explained = z.output<typeof explained>
export type FindQuery = z.output<typeof findQuery>
export type FindBody = z.output<typeof findBody>
