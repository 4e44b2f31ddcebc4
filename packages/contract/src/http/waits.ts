import { z } from 'zod'

/** A session that holds, or blocks the way to, a lock somebody waits for. */
export const lockHolder = z
  .looseObject({
    pid: z.int(),
    application: z.string().nullable(),
    user: z.string().nullable(),
    state: z.string().nullable(),
    since: z.string().nullable().describe('When its transaction began.'),
    transactionAgeMs: z.number().nullable(),
    lastStatement: z.string().nullable(),
    depth: z.int().describe('1 for who is waited for itself, 2 for who that one waits for, and so on.'),
    isRoot: z.boolean().describe('Whether it waits for nobody.'),
  })
  .meta({ id: 'LockHolder' })

export type LockHolder = z.output<typeof lockHolder>
