import { z } from 'zod'
import { PROBLEM_CODES } from './catalogue.js'

/** A value that breaks a rule. */
export const brokenValue = z
  .strictObject({
    property: z.string(),
    value: z.unknown().describe('What it would be.'),
    masked: z.literal(true).optional().describe('Of a sensitive property: its value is not shown.'),
  })
  .meta({ id: 'BrokenValue' })

/** A problem document (RFC 9457). Beside the standard members it carries `code` and the facts its code promises. */
export const problemDocument = z
  .looseObject({
    type: z.string().describe('A URI reference that ends in the code; it leads to a page about it.'),
    title: z.string(),
    status: z.int(),
    detail: z.string().describe('What is wrong, where, and what to do. For people; it may change.'),
    instance: z.string().optional(),
    code: z.enum(PROBLEM_CODES).describe('Branch on this.'),
    broken: z.array(brokenValue).optional().describe('Of `rule-broken`: the values that break the rule, by property.'),
  })
  .meta({ id: 'Problem' })

export type BrokenValue = z.output<typeof brokenValue>
export type ProblemDocument = z.output<typeof problemDocument>
