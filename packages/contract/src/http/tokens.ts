import { z } from 'zod'
import { role } from '../role.js'

export const tokenInput = z
  .strictObject({
    name: z
      .string()
      .trim()
      .min(1)
      .max(100)
      // What cannot be seen could make two names look alike, or a line of a log look like two.
      .regex(
        /^[^\p{Cc}\p{Cf}\p{Zl}\p{Zp}\p{Surrogate}]+$/u,
        'expected a name without control, formatting or bidirectional characters',
      )
      .describe('The actor of the entries this token causes. Names that differ only in letter case are the same.'),
    role,
    targets: z
      .array(z.string().max(200))
      .min(1)
      .max(1000)
      .optional()
      .describe('Only these targets; all where left out.'),
    only: z
      .array(z.string().min(1).max(100))
      .min(1)
      .max(1000)
      .optional()
      .describe('Only these mappings and transactions: it can use them and nothing else. All where left out.'),
  })
  .meta({ id: 'TokenInput' })

export const tokenInfo = z
  .strictObject({
    id: z.string(),
    name: z.string(),
    role,
    targets: z.array(z.string()).nullable(),
    only: z.array(z.string()).nullable().describe('The mappings and transactions it is limited to.'),
    createdAt: z.string(),
    lastUsedAt: z.string().nullable(),
  })
  .meta({ id: 'Token' })

export const newToken = tokenInfo
  .extend({ token: z.string().describe('Shown this once; only its hash is kept.') })
  .meta({ id: 'NewToken' })
export const tokenList = z.strictObject({ tokens: z.array(tokenInfo) })

export const sessionInput = z.strictObject({ token: z.string().min(1) })
export const sessionInfo = z.strictObject({
  actor: z.string(),
  role,
  targets: z.array(z.string()).nullable(),
  only: z.array(z.string()).nullable(),
})

export type TokenInput = z.output<typeof tokenInput>
export type TokenInfo = z.output<typeof tokenInfo>
export type NewToken = z.output<typeof newToken>
export type SessionInfo = z.output<typeof sessionInfo>
