import { problemCatalogue, type ProblemCode } from './catalogue.js'
import type { ProblemDocument } from './problem-schema.js'

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
