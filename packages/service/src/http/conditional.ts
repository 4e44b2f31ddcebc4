import type { Request } from 'express'
import { LedgermanProblem } from '@ledgerman/contract'

/** The entity tags of an If-Match or If-None-Match header (RFC 9110, sections 13.1.1 and 13.1.2), without their quotes. */
export type EntityTags = { strong: string[]; weak: string[] } | '*'

/** @throws LedgermanProblem request-invalid where the header is not a list of entity tags. */
export function readEntityTags(request: Request, header: 'if-match' | 'if-none-match'): EntityTags | undefined {
  const text = request.headers[header]
  if (text === undefined) return undefined
  if (text.trim() === '*') return '*'
  const tags = { strong: [] as string[], weak: [] as string[] }
  const pattern = /\s*(W\/)?"([\x21\x23-\x7e\x80-\xff]*)"\s*(?:,|$)/y
  while (pattern.lastIndex < text.length) {
    const found = pattern.exec(text)
    if (!found) {
      throw new LedgermanProblem(
        'request-invalid',
        `${header}: expected * or entity tags in double quotes, such as "v3", got ${text}.`,
        { where: header },
      )
    }
    tags[found[1] ? 'weak' : 'strong'].push(found[2] ?? '')
  }
  return tags
}

/** Whether a GET may be answered with 304: the weak comparison of RFC 9110, section 8.8.3.2. */
export function isUnmodified(request: Request, guard: string | null): boolean {
  const tags = readEntityTags(request, 'if-none-match')
  if (tags === undefined || guard === null) return false
  return tags === '*' || tags.strong.includes(guard) || tags.weak.includes(guard)
}

/** Whether If-Match, where it is there, lets a GET be answered: strong comparison, and before If-None-Match (RFC 9110, section 13.2.2). */
export function isMatched(request: Request, guard: string | null): boolean {
  const tags = readEntityTags(request, 'if-match')
  return tags === undefined || tags === '*' || (guard !== null && tags.strong.includes(guard))
}
