import { randomUUID } from 'node:crypto'
import type { RequestHandler } from 'express'
import type { Logger } from 'pino'

/**
 * Logs one line a request: its id, route, status, time and actor. Addresses and bodies are left out, since keys and filters
 * in them may be sensitive; so is every header.
 */
export function logRequests(log: Logger): RequestHandler {
  return (request, response, next) => {
    const started = performance.now()
    request.id = randomUUID()
    response.on('finish', () => {
      const { route, actor } = response.locals as { route?: string; actor?: string }
      if (route === 'GET /healthz' || route === 'GET /readyz') return
      const { statusCode: status } = response
      const durationMs = Math.round((performance.now() - started) * 10) / 10
      log[status >= 500 ? 'error' : 'info'](
        { requestId: request.id, method: request.method, route, status, actor, durationMs },
        'request answered',
      )
    })
    next()
  }
}

declare module 'express-serve-static-core' {
  interface Request {
    /** Finds the request in the log. */
    id: string
  }
}
