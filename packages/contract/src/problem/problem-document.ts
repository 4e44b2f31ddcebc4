import { z } from 'zod'
import { PROBLEM_CODES, problemCatalogue, type ProblemCode } from './catalogue.js'

/** A problem document (RFC 9457). Beside the standard members it carries `code` and the facts its code promises. */
export const problemDocument = z
  .looseObject({
    type: z.string().describe('A URI reference that ends in the code; it leads to a page about it.'),
    title: z.string(),
    status: z.int(),
    detail: z.string().describe('What is wrong, where, and what to do. For people; it may change.'),
    instance: z.string().optional(),
    code: z.enum(PROBLEM_CODES).describe('Branch on this.'),
  })
  .meta({ id: 'Problem' })

export type ProblemDocument = z.output<typeof problemDocument>

/**
 * Builds the document for one occurrence of a problem. `facts` become members of it, behind the standard ones and never in
 * their place.
 */
export function toProblemDocument(
  code: ProblemCode,
  detail: string,
  facts: Record<string, unknown> = {},
  instance?: string,
): ProblemDocument {
  const { status, title } = problemCatalogue[code]
  const standard = {
    type: `/problems/${code}`,
    title,
    status,
    detail,
    code,
    ...(instance === undefined ? {} : { instance }),
  }
  return { ...standard, ...facts, ...standard }
}
