import { z } from 'zod'
import { values } from '../receipt/receipt.js'

export const HISTORY_KINDS = ['added', 'changed', 'removed', 'reversed', 'outside'] as const

export const historyEvent = z.strictObject({
  at: z.string().nullable().describe('Null for a change outside the book: nobody knows when it was.'),
  entry: z.string().nullable().describe('Its entry in the book.'),
  actor: z.string().nullable(),
  transaction: z.string().nullable(),
  kind: z
    .enum(HISTORY_KINDS)
    .describe('`outside` where the images before and after do not join: somebody wrote past the book in between.'),
  changes: z.array(z.strictObject({ property: z.string(), before: z.unknown(), after: z.unknown() })),
  note: z.string().nullable(),
})

/** What became of a record, the newest first. */
export const recordHistory = z
  .strictObject({
    history: z.array(historyEvent),
    next: z.string().nullable(),
    unseen: z
      .array(z.string())
      .describe('What else in the book may be of it and was not looked through, such as entries of a view.'),
  })
  .meta({ id: 'History' })

/** A record as it was at a moment, rebuilt from the images in the book. */
export const recordAsOf = z
  .strictObject({
    record: values.nullable().describe('Null where there was none at that moment.'),
    asOf: z.string(),
    sure: z.boolean().describe('Whether nothing speaks against it.'),
    because: z.string().nullable().describe('What makes it unsure.'),
  })
  .meta({ id: 'RecordAsOf' })

export type HistoryEvent = z.output<typeof historyEvent>
export type RecordHistory = z.output<typeof recordHistory>
export type RecordAsOf = z.output<typeof recordAsOf>
