import { z } from 'zod'
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

export type CodeInput = z.output<typeof codeInput>
export type CodeFile = z.output<typeof codeFile>
export type WrittenCode = z.output<typeof writtenCode>
