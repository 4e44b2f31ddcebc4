import type { Request } from 'express'
import {
  LedgermanProblem,
  checkInput,
  describeIssues,
  findJsonLimit,
  findLostMember,
  mayLoseMember,
  parseJson,
} from '@ledgerman/contract'
import { AS_IT_COMES, AS_IT_STANDS, type BodyShape, type Route } from './route.js'

const JSON_TYPE = 'application/json'

/** A call that takes a body. */
export type BodyRoute = Route & { body: BodyShape }

export function takesBody(route: Route): route is BodyRoute {
  return route.body !== undefined
}

/**
 * Reads a body that was collected as bytes: media type, character set, syntax, shape, in that order.
 *
 * @throws LedgermanProblem media-type, request-invalid
 */
export function readBody(request: Request, route: BodyRoute): { body: unknown; text: string; mediaType: string } {
  const { mediaType, accepted } = acceptedForm(request, route)
  const text = saysNothing(request, route) ? NOTHING_SAID : decode(request.body)
  if (text.includes('\0'))
    throw new LedgermanProblem('request-invalid', 'The body holds U+0000, which PostgreSQL cannot store.', {
      where: 'body',
    })
  if (accepted.parse === AS_IT_STANDS) return { body: text, text, mediaType }
  const value = parse(text, typeof accepted.parse === 'function' ? accepted.parse : readJson)
  const checked = checkInput(accepted.schema, value)
  if (!checked.success) throw invalid('body', checked.error, value)
  if (mayLoseMember(text)) assertNoneLost(value, checked.data)
  return { body: checked.data, text, mediaType }
}

/** What a body that may be left out stands for, where it is. */
const NOTHING_SAID = '{}'

/** Whether a call has nothing that must be said in its body. One that may change something is told what, be it nothing. */
export function isOptional({ body, mayChange }: BodyRoute): boolean {
  return mayChange !== true && body[JSON_TYPE]?.schema.safeParse({}).success === true
}

/** Whether a request has no body (RFC 9112, section 6), or an empty one, and needs none. */
function saysNothing({ headers }: Request, route: BodyRoute): boolean {
  return headers['transfer-encoding'] === undefined && Number(headers['content-length'] ?? 0) === 0 && isOptional(route)
}

/** Whether a body in this form is for the handler to read as it comes. @throws LedgermanProblem media-type */
export function comesAsStream(request: Request, route: BodyRoute): boolean {
  const isStream = acceptedForm(request, route).accepted.parse === AS_IT_COMES
  const encoding = request.headers['content-encoding'] ?? 'identity'
  if (isStream && encoding !== 'identity')
    throw new LedgermanProblem('media-type', `The body is encoded as ${encoding}; send it plain.`, {
      where: 'content-encoding',
    })
  return isStream
}

export function mediaTypeOf(request: Request): string {
  return (request.headers['content-type'] ?? '').split(';')[0]?.trim().toLowerCase() ?? ''
}

function acceptedForm(request: Request, route: BodyRoute): { mediaType: string; accepted: BodyShape[string] } {
  const shape = route.body
  if (saysNothing(request, route)) return { mediaType: JSON_TYPE, accepted: shape[JSON_TYPE] as BodyShape[string] }
  const said = request.headers['content-type'] ?? ''
  // What nearly everybody sends is read in no time.
  if (said === JSON_TYPE && shape[JSON_TYPE]) return { mediaType: JSON_TYPE, accepted: shape[JSON_TYPE] }
  const [mediaType = '', ...parameters] = said.split(';').map((part) => part.trim().toLowerCase())
  const accepted = shape[mediaType]
  const charset = parameters
    .find((each) => each.startsWith('charset='))
    ?.slice('charset='.length)
    .replaceAll('"', '')
  if (!accepted || (charset !== undefined && charset !== 'utf-8')) {
    throw new LedgermanProblem(
      'media-type',
      `The body is ${mediaType || 'of no media type'}${charset ? ` in ${charset}` : ''}; expected ${Object.keys(shape).join(' or ')}, in UTF-8.`,
      {
        where: 'content-type',
        expected: Object.keys(shape),
      },
    )
  }
  return { mediaType, accepted }
}

/** The problem for an input that a schema refuses. */
export function invalid(what: string, error: Parameters<typeof describeIssues>[0], input: unknown): LedgermanProblem {
  const isSecret = (where: string) => /token|password/i.test(where)
  const issues = describeIssues(error, input, { whole: what, isSecret })
  const said = issues.map(({ where, message }) => (where === what ? message : `${where}: ${message}`)).join('; ')
  return new LedgermanProblem('request-invalid', `The ${what} is not valid: ${said}.`, {
    where: issues[0]?.where ?? what,
    issues,
  })
}

function readJson(text: string): unknown {
  const limit = findJsonLimit(text)
  if (limit !== undefined) throw new Error(limit)
  return parseJson(text)
}

function assertNoneLost(given: unknown, taken: unknown): void {
  const where = findLostMember(given, taken)
  if (where === undefined) return
  throw new LedgermanProblem('request-invalid', `${where}: __proto__ is no name of a member here.`, { where })
}

function decode(bytes: unknown): string {
  try {
    return new TextDecoder('utf-8', { fatal: true }).decode(bytes instanceof Uint8Array ? bytes : new Uint8Array())
  } catch {
    throw new LedgermanProblem('request-invalid', 'The body is not valid UTF-8.', { where: 'body' })
  }
}

function parse(text: string, read: (text: string) => unknown): unknown {
  try {
    return read(text)
  } catch (error) {
    if (error instanceof LedgermanProblem) throw error
    throw new LedgermanProblem(
      'request-invalid',
      `The body cannot be read: ${error instanceof Error ? error.message : String(error)}.`,
      { where: 'body' },
    )
  }
}
