import type { Request } from 'express'
import type { z } from 'zod'
import type { LockHolder, ProblemCode, Progress, Role } from '@ledgerman/contract'
import type { Caller } from '../home/token-store.js'

export type Method = 'get' | 'put' | 'post' | 'patch' | 'delete'

/** What a handler is given: everything checked. */
export interface Call<Query = unknown, Body = unknown> {
  params: Record<string, string>
  query: Query
  body: Body
  /** The body as it was sent, and its media type without parameters. */
  text: string
  mediaType: string
  caller: Caller
  request: Request
  /** Tells a caller who follows the call that it waits for a lock, and who holds it. */
  onWait?: (holders: LockHolder[]) => void
  /** Tells a caller who follows the call how far it is. */
  onProgress?: (progress: Progress) => void
  /** Fires when the caller goes away before the answer is sent. */
  gone: () => AbortSignal
}

export interface Reply {
  status: number
  /** Printed as JSON; left out for an empty answer. */
  body?: unknown
  /** Sent as it comes, instead of a body; where it fails the connection is broken off, so that no part looks like the whole. */
  stream?: { contentType: string; chunks: AsyncIterable<string | Uint8Array> }
  headers?: Record<string, string>
}

export interface BodyShape {
  /** By media type: the schema its content has, and how the text becomes a value (JSON where not said). */
  [mediaType: string]: {
    schema: z.ZodType
    parse?: ((text: string) => unknown) | typeof AS_IT_STANDS | typeof AS_IT_COMES
    /** The same as a JSON Schema can say it, where `schema` cannot be printed as one. */
    shape?: z.ZodType
  }
}

/** The body is not read before the handler: it takes it from the request as it comes, whatever its size. */
export const AS_IT_COMES = Symbol('as it comes')

/** The body is left as text: the handler reads it, and tells what is wrong with it by line. */
export const AS_IT_STANDS = Symbol('as it stands')

/** One call of the interface: what it takes, what it gives, who may, and what it does. The OpenAPI document is made of these. */
export interface Route {
  method: Method
  /** With OpenAPI's braces: `/v1/targets/{target}`. */
  path: string
  /** Null where no token is needed. */
  role: Role | null
  /** Whether it looks itself at what a limited token is limited to; see `limited-token.ts`. */
  looksAtLimits?: boolean
  summary: string
  query?: z.ZodType
  /** Parameters of the query whose names begin so, and go on as the caller says: `bind.` and what they are. */
  queryFamilies?: Record<string, string>
  /** Whether its answers show statements, which `style` has in other placeholders. */
  showsStatements?: boolean
  headers?: Record<string, string>
  body?: BodyShape
  /** By status; `headers` names what is worth knowing. */
  replies: Record<
    number,
    { description: string; schema?: z.ZodType; headers?: Record<string, string>; alsoAs?: readonly string[] }
  >
  /** How long it may take, in milliseconds, where other than most calls; null where it goes on for as long as its caller listens. */
  longestMs?: number | null
  /** Whether it only tells what happens: a service that stops breaks it off, and does not wait for its end. */
  onlyTells?: boolean
  /** Whether it may leave something changed: then nobody says that nothing was when it is given up. */
  mayChange?: boolean
  /** Whether it can be followed: with `Accept: text/event-stream` it says who holds the lock it waits for, and how far it is. */
  canFollow?: boolean
  /** The codes that are this call's own; those any call can meet are added. */
  problems?: ProblemCode[]
  handle: (call: Call<never, never>) => Promise<Reply>
}

/** Declares a route, so that its handler sees the types its schemas give. */
export function defineRoute<Query extends z.ZodType = z.ZodType<unknown>, Body = unknown>(
  route: Omit<Route, 'query' | 'handle'> & {
    query?: Query
    handle: (call: Call<z.output<Query>, Body>) => Promise<Reply>
  },
): Route {
  return route as unknown as Route
}
