import { existsSync } from 'node:fs'
import { join } from 'node:path'
import express, { type ErrorRequestHandler, type Express, type Request, type Response } from 'express'
import helmet from 'helmet'
import type { Logger } from 'pino'
import { isProblem, LedgermanProblem, problemCatalogue, toProblemDocument, type ProblemCode } from '@ledgerman/contract'
import type { TokenStore } from '../home/token-store.js'
import { sendProblem, sendReply, sendStream } from './answer.js'
import { follow } from './follow.js'
import { authenticate } from './authenticate.js'
import { toOpenApi } from './openapi.js'
import { invalid, readBody } from './read-body.js'
import { logRequests } from './request-log.js'
import type { Call, Route } from './route.js'

export interface AppParts {
  routes: Route[]
  tokens: TokenStore
  log: Logger
  /** The built console; null where there is none. */
  consoleDir: string | null
}

const BODY_LIMIT = '1mb'

/** Puts the routes, the console and the problem documents together. */
export function createApp({ routes, tokens, log, consoleDir }: AppParts): Express {
  const app = express()
  app.disable('x-powered-by').set('query parser', 'simple').set('etag', false)
  app.use(logRequests(log))
  const readBytes = express.raw({ type: () => true, limit: BODY_LIMIT })
  for (const route of routes) {
    const handlers = [
      ...(route.body ? [readBytes] : []),
      (request: Request, response: Response) => serve(route, tokens, request, response),
    ]
    app[route.method](route.path.replace(/\{(\w+)\}/g, ':$1'), ...handlers)
  }
  const openApi = toOpenApi(routes)
  app.get('/openapi.json', (_request, response) => void response.json(openApi))
  app.get('/problems/:code', (request, response, next) => {
    const { code } = request.params
    if (!(code in problemCatalogue)) return next()
    response.json({ code, ...problemCatalogue[code as ProblemCode] })
  })
  if (consoleDir !== null && existsSync(join(consoleDir, 'index.html'))) serveConsole(app, consoleDir)
  app.use((request: Request) => {
    throw new LedgermanProblem(
      'not-found',
      `There is nothing at ${request.method} ${request.path}; /openapi.json lists all calls.`,
    )
  })
  app.use(answerErrors(log))
  return app
}

async function serve(route: Route, tokens: TokenStore, request: Request, response: Response): Promise<void> {
  response.locals['route'] = `${route.method.toUpperCase()} ${route.path}`
  const anyone = { tokenId: '', actor: '', role: 'reader', targets: null } as const
  const caller = route.role === null ? anyone : await authenticate(request, tokens, route.role)
  response.locals['actor'] = caller.actor
  const query = route.query?.safeParse(request.query)
  if (query && !query.success) throw invalid('query', query.error, request.query)
  const read = route.body ? readBody(request, route.body) : { body: undefined, text: '', mediaType: '' }
  const gone = () => signalOfClose(response)
  const call = { params: request.params, query: query?.data, ...read, caller, request, gone } as Call<never, never>
  const isFollowed = route.canFollow === true && request.headers.accept?.startsWith('text/event-stream') === true
  const reply = isFollowed
    ? follow((follower) => route.handle({ ...call, ...follower } as Call<never, never>), toAnswer)
    : await route.handle(call)
  if (reply.stream) await sendStream(response, reply)
  else sendReply(response, reply)
}

/** What an error would have been answered with; one of our own making is told as such, and nothing of it. */
function toAnswer(error: unknown): { status: number; body: unknown } {
  const problem = toProblem(error) ?? new LedgermanProblem('internal', 'Something went wrong in Ledgerman.')
  const body = toProblemDocument(problem.code, problem.detail, problem.facts)
  return { status: body.status, body }
}

function signalOfClose(response: Response): AbortSignal {
  const controller = new AbortController()
  response.once('close', () => {
    if (!response.writableFinished) controller.abort()
  })
  return controller.signal
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

function answerErrors(log: Logger): ErrorRequestHandler {
  return (error: unknown, request, response, next) => {
    if (response.headersSent) return next(error)
    const problem = toProblem(error)
    if (problem) return sendProblem(response, problem)
    const id = String(request.id)
    log.error({ requestId: id, error: describeFault(error) }, 'request failed')
    sendProblem(
      response,
      new LedgermanProblem('internal', `Something went wrong in Ledgerman. Look for ${id} in its log.`, { id }),
    )
  }
}

/** Our own problems, and what Express and its body reader refuse by themselves. */
function toProblem(error: unknown): LedgermanProblem | undefined {
  if (isProblem(error)) return error
  const { status, type, message } = error as { status?: number; type?: string; message?: string }
  if (type === 'entity.too.large')
    return new LedgermanProblem('too-large', `The body is larger than ${BODY_LIMIT}.`, { where: 'body' })
  if (status === 415)
    return new LedgermanProblem('media-type', `The body cannot be read: ${message}.`, { where: 'content-encoding' })
  if (status === 400)
    return new LedgermanProblem('request-invalid', `The request cannot be read: ${message}.`, { where: 'address' })
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
