import { randomUUID } from 'node:crypto'
import { roundMs } from '@ledgerman/contract'
import type { RequestHandler } from 'express'
import type { Logger } from 'pino'
import type { Metrics } from '../metrics/metrics.js'

/**
 * Logs one line a request, and counts it: its id, route, status, time and actor. Addresses and bodies are left out, since keys and filters
 * in them may be sensitive; so is every header.
 */
export function logRequests(log: Logger, metrics: Pick<Metrics, 'answered'>): RequestHandler {
  return (request, response, next) => {
    const started = performance.now()
    request.id = randomUUID()
    response.on('finish', () => {
      const { route, actor } = response.locals as { route?: string; actor?: string }
      const { statusCode: status } = response
      const tookMs = performance.now() - started
      metrics.answered(route ?? 'none', status, tookMs / 1000)
      if (route === 'GET /healthz' || route === 'GET /readyz') return
      const durationMs = roundMs(tookMs)
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
