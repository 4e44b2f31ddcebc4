import { z } from 'zod'

export const targetInfo = z
  .strictObject({
    name: z.string(),
    reachable: z.boolean(),
    book: z.enum(['prepared', 'not prepared', 'unknown']),
    server: z.string().nullable().describe("The server's version, where it can be reached."),
    database: z.string().nullable(),
    problem: z.string().nullable().describe('Why it cannot be reached.'),
    warnings: z.array(z.string()),
  })
  .meta({ id: 'Target' })

export const targetList = z.strictObject({ targets: z.array(targetInfo) })

export const bookPrepared = z.strictObject({
  target: z.string(),
  prepared: z.enum(['now', 'already']),
  created: z.array(z.string()).describe('What was created in the target.'),
})

export type TargetInfo = z.output<typeof targetInfo>
export type BookPrepared = z.output<typeof bookPrepared>
