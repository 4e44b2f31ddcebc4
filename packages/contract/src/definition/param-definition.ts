import { z } from 'zod'

const expression = z.string().min(1).max(10_000)

/** A parameter of a transaction or of a mapping's find. */
export const paramDefinition = z.strictObject({
  type: z.string().min(1).describe('A PostgreSQL type, such as text, numeric or text[].'),
  rule: expression.optional().describe('An expression over the parameters that has to be true.'),
  default: z.unknown().optional(),
  nullable: z.boolean().optional(),
})
