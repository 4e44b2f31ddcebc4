import { z } from 'zod'
import { transactionDefinitionShape } from '../definition/transaction-definition.js'

export const transactionSummary = z
  .strictObject({
    name: z.string(),
    summary: z.string().nullable(),
    params: z.array(z.string()),
    revision: z.int(),
    publishedAt: z.string(),
    publishedBy: z.string(),
  })
  .meta({ id: 'TransactionSummary' })

export const transactionInfo = transactionSummary
  .extend({
    definition: transactionDefinitionShape,
    source: z.string().describe('The text that was published.'),
    drift: z.string().nullable().describe('What no longer fits the target, where something does not.'),
  })
  .meta({ id: 'Transaction' })

export const transactionList = z.strictObject({ transactions: z.array(transactionSummary) })

export type TransactionSummary = z.output<typeof transactionSummary>
export type TransactionInfo = z.output<typeof transactionInfo>
