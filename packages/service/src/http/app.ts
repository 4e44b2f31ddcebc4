import { existsSync } from 'node:fs'
import { join } from 'node:path'
import express, {
  type ErrorRequestHandler,
  type Express,
  type Request,
  type RequestHandler,
  type Response,
} from 'express'
import helmet from 'helmet'
import type { Logger } from 'pino'
import { z } from 'zod'
import {
  isProblem,
  LedgermanProblem,
  PLACEHOLDER_STYLES,
  problemCatalogue,
  restyleAll,
  toProblemDocument,
  type PlaceholderStyle,
  type ProblemCode,
  type Role,
  checkInput,
} from '@ledgerman/contract'
import type { Metrics } from '../metrics/metrics.js'
import type { TokenStore } from '../home/token-store.js'
import { sendProblem, sendReply, sendStream } from './answer.js'
import { assertOpenTo } from './limited-token.js'
import { follow } from './follow.js'
import { authenticate } from './authenticate.js'
import { CallLimit } from './call-limit.js'
import { hideStatements } from './hide-statements.js'
import { answerAsItIs, type LookAgain } from './look-again.js'
import { toOpenApi } from './openapi.js'
import { comesAsStream, invalid, mediaTypeOf, readBody, takesBody } from './read-body.js'
import { logRequests } from './request-log.js'
import type { Call, Reply, Route } from './route.js'

export interface AppParts {
  routes: Route[]
  tokens: TokenStore
  log: Logger
  metrics: Metrics
  /** The built console; null where there is none. */
  consoleDir: string | null
  /** How large a body may be, in bytes. */
  bodyLimitBytes: number
  /** Addresses of proxies whose `X-Forwarded-For`, `-Proto` and `-Host` are believed. */
  proxies: string[]
  lookAgain: LookAgain
  /** Fires when the service stops. */
  stopping: AbortSignal
}

/** Puts the routes, the console and the problem documents together. */
export function createApp(parts: AppParts): Express {
  const { routes, log, metrics, consoleDir, bodyLimitBytes, proxies } = parts
  const app = express()
  app.disable('x-powered-by').set('query parser', 'simple').set('etag', false).set('trust proxy', proxies)
  app.use(logRequests(log, metrics))
  const readBytes = express.raw({ type: () => true, limit: bodyLimitBytes })
  for (const route of routes)
    app[route.method](route.path.replace(/\{(\w+)\}/g, ':$1'), (request: Request, response: Response) =>
      serve(route, parts, readBytes, request, response),
    )
  for (const [path, methods] of methodsByPath(routes))
    app.all(path.replace(/\{(\w+)\}/g, ':$1'), (request, response) => {
      response.set('allow', methods.join(', '))
      throw new LedgermanProblem(
        'method-not-allowed',
        `${request.method} is no call of ${request.path}; it takes ${methods.join(', ')}.`,
        { allow: methods },
      )
    })
  // Made when it is first asked for: a service begins sooner without.
  let openApi: ReturnType<typeof toOpenApi> | undefined
  app.get('/openapi.json', (_request, response) => void response.json((openApi ??= toOpenApi(routes))))
  app.get('/problems/:code', (request, response, next) => {
    const { code } = request.params
    if (!Object.hasOwn(problemCatalogue, code)) return next()
    response.json({ code, ...problemCatalogue[code as ProblemCode] })
  })
  if (consoleDir !== null && existsSync(join(consoleDir, 'index.html'))) serveConsole(app, consoleDir)
  app.use((request: Request) => {
    throw new LedgermanProblem(
      'not-found',
      `There is nothing at ${request.method} ${request.path}; /openapi.json lists all calls.`,
    )
  })
  app.use(answerErrors(log, bodyLimitBytes))
  return app
}

/** What each address takes, for whoever comes with another method (RFC 9110, section 15.5.6). */
function methodsByPath(routes: readonly Route[]): Map<string, string[]> {
  const methods = new Map<string, string[]>()
  for (const { path, method } of routes) {
    const own = methods.get(path) ?? []
    methods.set(path, [...own, method.toUpperCase(), ...(method === 'get' ? ['HEAD'] : [])])
  }
  return methods
}

async function serve(
  route: Route,
  { tokens, stopping, log, lookAgain }: AppParts,
  readBytes: RequestHandler,
  request: Request,
  response: Response,
): Promise<void> {
  response.locals['route'] = `${route.method.toUpperCase()} ${route.path}`
  const anyone = { tokenId: '', actor: '', role: 'reader', targets: null, only: null } as const
  // Nobody's body is read before it is known that they may send one.
  const caller = route.role === null ? anyone : await authenticate(request, tokens, route.role)
  response.locals['actor'] = caller.actor
  assertOpenTo(caller, route, request.params)
  assertStorable(request)
  const { style, query } = styleOf(route, request)
  const checked = checkQuery(route, query)
  if (!checked.success) throw invalid('query', checked.error, query)
  const isStream = takesBody(route) && comesAsStream(request, route)
  if (route.body && !isStream) await readInTime(request, response, readBytes)
  const read =
    takesBody(route) && !isStream
      ? readBody(request, route)
      : { body: undefined, text: '', mediaType: isStream ? mediaTypeOf(request) : '' }
  const limit = new CallLimit(route, response, stopping)
  const call = {
    params: request.params,
    query: checked.data,
    ...read,
    caller,
    request,
    gone: () => limit.signal,
  } as Call<never, never>
  const isFollowed = route.canFollow === true && request.headers.accept?.startsWith('text/event-stream') === true
  // A body that comes as it is read can be read once.
  const answer = (followed: Call<never, never>) =>
    isStream ? route.handle(followed) : answerAsItIs(followed, route.handle, lookAgain)
  const handle = (followed: Call<never, never>) =>
    limit.within(answer(followed)).then(inStyle, (error: unknown) => {
      throw isProblem(error) ? withoutOthersData(error, caller.role).with(restyleAll(receiptOf(error), style)) : error
    })
  const inStyle = (said: Reply): Reply =>
    said.body === undefined ? said : { ...said, body: restyleAll(said.body, style) }
  const reply = isFollowed
    ? follow(
        ({ onWait, onProgress }) =>
          handle({
            ...call,
            onProgress,
            onWait: (holders) => onWait(hideStatements(holders, caller.role)),
          } as Call<never, never>),
        (error) => toAnswer(error, log, request),
      )
    : await handle(call)
  if (reply.stream) await sendStream(response, reply)
  else sendReply(response, reply)
}

/** How long a caller may take to send a body that is read as a whole, in milliseconds. */
const BODY_LIMIT_MS = 60_000

/**
 * Collects a body; one that comes a byte a second is not waited for.
 *
 * @throws LedgermanProblem time-limit
 */
async function readInTime(request: Request, response: Response, readBytes: RequestHandler): Promise<void> {
  let timer: NodeJS.Timeout | undefined
  try {
    await new Promise<void>((resolve, reject) => {
      timer = setTimeout(() => {
        // The rest of the body is not read, so that nothing can follow it.
        response.set('connection', 'close').once('finish', () => request.destroy())
        reject(
          new LedgermanProblem('time-limit', `The body did not arrive within ${BODY_LIMIT_MS / 1000} s.`, {
            where: 'body',
          }),
        )
      }, BODY_LIMIT_MS)
      readBytes(request, response, settle(resolve, reject))
    })
  } finally {
    clearTimeout(timer)
  }
}

/** What a problem says of other sessions. */
const TOLD_OF_OTHERS = new Set(['holder', 'chain', 'lastStatement'])

function withoutOthersData(problem: LedgermanProblem, role: Role): LedgermanProblem {
  const told = Object.entries(problem.facts).filter(([name]) => TOLD_OF_OTHERS.has(name))
  return told.length === 0 ? problem : problem.with(hideStatements(Object.fromEntries(told), role))
}

/** The style that statements are asked for in, and the rest of the query. */
function styleOf(
  { showsStatements }: Route,
  { query }: Request,
): { style: PlaceholderStyle; query: Record<string, unknown> } {
  if (!showsStatements || query['style'] === undefined) return { style: 'dollar', query }
  const { style, ...rest } = query
  if (!PLACEHOLDER_STYLES.includes(style as PlaceholderStyle))
    throw new LedgermanProblem('request-invalid', `style: expected one of ${PLACEHOLDER_STYLES.join(', ')}.`, {
      where: 'style',
    })
  return { style: style as PlaceholderStyle, query: rest }
}

/** The receipt that a refusal carries. */
function receiptOf({ facts }: LedgermanProblem): Record<string, unknown> {
  return facts['receipt'] === undefined ? {} : { receipt: facts['receipt'] }
}

/** A call that says nothing of its query takes none. */
const NO_QUERY = z.strictObject({})

/** What each of them is where nothing is asked for, as mostly: read once, and changed by nobody. */
const unasked = new WeakMap<z.ZodType, z.ZodSafeParseResult<unknown>>()

function checkQuery(route: Route, query: Record<string, unknown>): z.ZodSafeParseResult<unknown> {
  const schema = route.query ?? NO_QUERY
  if (Object.keys(query).length > 0) return checkInput(schema, query)
  let read = unasked.get(schema)
  if (!read) {
    read = checkInput(schema, query)
    Object.freeze(read.data)
    unasked.set(schema, read)
  }
  return read
}

function settle(resolve: () => void, reject: (error: unknown) => void): (error?: unknown) => void {
  return (error) => (error === undefined || error === null ? resolve() : reject(error))
}

/** What an address holds becomes a bind sooner or later: PostgreSQL has no U+0000. */
function assertStorable(request: Request): void {
  if (!request.url.includes('%00')) return
  const parts = [...Object.entries(request.params), ...Object.entries(request.query)]
  const found = parts.find(([name, value]) => `${name}${JSON.stringify(value)}`.match(/\0|\\u0000/))
  if (found)
    throw new LedgermanProblem(
      'request-invalid',
      `${found[0].replaceAll('\0', '')}: U+0000 cannot stand in an address.`,
      {
        where: found[0].replaceAll('\0', ''),
      },
    )
}

/** What an error would have been answered with. */
function toAnswer(error: unknown, log: Logger, request: Request): { status: number; body: unknown } {
  const problem = toProblem(error) ?? internal(error, log, request)
  const body = toProblemDocument(problem.code, problem.detail, problem.facts)
  return { status: body.status, body }
}

/** Addresses of the console's own pages all lead to its one document. */
function serveConsole(app: Express, consoleDir: string): void {
  // Vuetify writes its theme into a style element.
  app.use(
    helmet({
      strictTransportSecurity: false,
      contentSecurityPolicy: {
        directives: { 'style-src': ["'self'", "'unsafe-inline'"], 'upgrade-insecure-requests': null },
      },
    }),
  )
  app.use('/assets', express.static(join(consoleDir, 'assets'), { immutable: true, maxAge: '1y', fallthrough: true }))
  app.use(express.static(consoleDir, { index: false }))
  app.get(/^\/(?!v1\/|openapi|metrics|assets\/)/, (request, response, next) => {
    if (!request.accepts('html')) return next()
    response.set('cache-control', 'no-cache').sendFile(join(consoleDir, 'index.html'))
  })
}

function answerErrors(log: Logger, bodyLimitBytes: number): ErrorRequestHandler {
  return (error: unknown, request, response, next) => {
    if (response.headersSent) return next(error)
    const problem = toProblem(error, bodyLimitBytes)
    sendProblem(response, problem ?? internal(error, log, request))
  }
}

/** A fault of our own: told without its words, which are in the log under the id of the request. */
function internal(error: unknown, log: Logger, request: Request): LedgermanProblem {
  const id = String(request.id)
  log.error({ requestId: id, error: describeFault(error) }, 'request failed')
  return new LedgermanProblem('internal', `Something went wrong in Ledgerman. Look for ${id} in its log.`, { id })
}

/** Our own problems, and what Express and its body reader refuse by themselves. */
function toProblem(error: unknown, bodyLimitBytes?: number): LedgermanProblem | undefined {
  if (isProblem(error)) return error
  const { status, type, code, message } = error as { status?: number; type?: string; code?: string; message?: string }
  if (type === 'entity.too.large')
    return new LedgermanProblem('too-large', `The body is larger than ${bodyLimitBytes} bytes.`, {
      where: 'body',
      limitBytes: bodyLimitBytes,
    })
  if (status === 415)
    return new LedgermanProblem('media-type', `The body cannot be read: ${message}.`, { where: 'content-encoding' })
  if (status === 400)
    return new LedgermanProblem('request-invalid', `The request cannot be read: ${message}.`, {
      // What the reader of bodies refuses is told by a type, or by a code where it is compressed.
      where: (type ?? code) === undefined ? 'address' : 'body',
    })
  return undefined
}

/** A database's message may repeat a value, so only its code and place are logged. */
function describeFault(error: unknown): Record<string, unknown> {
  if (!(error instanceof Error)) return { type: typeof error }
  const { code, routine, severity } = error as { code?: string; routine?: string; severity?: string }
  const stack = error.stack
    ?.split('\n')
    .slice(1)
    .map((line) => line.trim())
  return severity === undefined
    ? { name: error.name, message: error.message, stack }
    : { name: error.name, sqlstate: code, routine, stack }
}
