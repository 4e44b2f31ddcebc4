import { z } from 'zod'
import { rowDifference, scratchInfo } from './drills.js'
import { definitionName } from '../definition/mapping-definition.js'

/** What code is written for; everything that is published where nothing is said. */
export const codeInput = z
  .strictObject({
    mappings: z.array(definitionName).max(1000).optional(),
    transactions: z.array(z.string().min(1).max(100)).max(1000).optional(),
    book: z.boolean().optional().describe("Whether the code writes entries to the target's book."),
  })
  .meta({ id: 'CodeInput' })

export const codeFile = z.strictObject({ path: z.string(), text: z.string() })

export const writtenCode = z.strictObject({ files: z.array(codeFile) }).meta({ id: 'WrittenCode' })

const provenCase = z.strictObject({
  what: z.string(),
  service: z.string().describe('What the service told: its counts, or the code of its problem.'),
  code: z.string().describe('What the written code told.'),
  rows: z.int().describe('Rows that the service wrote.'),
  same: z.boolean(),
  entries: z
    .strictObject({ service: z.string(), code: z.string() })
    .optional()
    .describe('What the book got, as JSON, where code that writes entries wrote others than the service.'),
  differing: z.array(rowDifference).describe('Rows that the two left differently: by the service, and by the code.'),
})

/** What was done both ways, and whether it came out the same. */
export const codeProof = z
  .strictObject({
    passed: z.boolean(),
    cases: z.array(provenCase),
    notTried: z.array(z.string()).describe('What there is nothing to try with, and why.'),
    scratch: scratchInfo,
    durationMs: z.number(),
  })
  .meta({ id: 'CodeProof' })

export type CodeProof = z.output<typeof codeProof>
export type ProvenCase = z.output<typeof provenCase>
export type CodeInput = z.output<typeof codeInput>
export type CodeFile = z.output<typeof codeFile>
export type WrittenCode = z.output<typeof writtenCode>
