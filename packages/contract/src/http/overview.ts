import { z } from 'zod'

/** What somebody who opens a target wants to see first. */
export const overview = z
  .strictObject({
    attention: z
      .array(
        z.strictObject({
          kind: z.enum(['target', 'book', 'mapping', 'transaction', 'waits', 'job', 'refusals']),
          /** What it is about: a name, an id, or a problem code. */
          about: z.string().nullable(),
          message: z.string(),
        }),
      )
      .describe('What needs somebody to look at it.'),
    hours: z
      .array(z.strictObject({ at: z.string(), committed: z.int(), refused: z.int(), rows: z.int() }))
      .describe('Entries of the last 24 hours by hour, the oldest first: runs committed and refused, rows changed.'),
    refusals: z.array(z.strictObject({ code: z.string(), count: z.int() })).describe('Of the last hour, by code.'),
    busiest: z.strictObject({
      definitions: z.array(
        z.strictObject({ name: z.string(), kind: z.enum(['transaction', 'mapping']), runs: z.int(), rows: z.int() }),
      ),
      records: z.array(z.strictObject({ mapping: z.string(), key: z.array(z.string()), changes: z.int() })),
    }),
    looked: z
      .strictObject({ entries: z.int(), since: z.string().nullable() })
      .describe(
        'How many entries were looked at, the newest first, and the moment of the oldest: all of 24 hours, or as many as are looked at.',
      ),
    mappings: z.int().describe('How many are published.'),
  })
  .meta({ id: 'Overview' })

export type Overview = z.output<typeof overview>
