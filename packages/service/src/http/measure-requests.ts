import type { RequestHandler } from 'express'
import type { Metrics } from '../metrics/metrics.js'

/** Measures how long each answer takes, by the route as it is declared. */
export function measureRequests(metrics: Metrics): RequestHandler {
  return (_request, response, next) => {
    const started = performance.now()
    response.on('finish', () => {
      const { route = 'none' } = response.locals as { route?: string }
      metrics.answered(route, response.statusCode, (performance.now() - started) / 1000)
    })
    next()
  }
}
