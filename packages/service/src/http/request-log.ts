import { randomUUID } from 'node:crypto'
import type { IncomingMessage, ServerResponse } from 'node:http'
import type { RequestHandler } from 'express'
import type { Logger } from 'pino'
import { pinoHttp } from 'pino-http'

/**
 * One line a request: its id, route, status, time and actor. Addresses and bodies are left out, since keys and filters in
 * them may be sensitive; so is every header.
 */
export function logRequests(log: Logger): RequestHandler {
  return pinoHttp({
    logger: log,
    genReqId: () => randomUUID(),
    autoLogging: { ignore: (request) => request.url === '/healthz' || request.url === '/readyz' },
    serializers: { req: () => undefined, res: () => undefined },
    // Without these the request's and the answer's own objects would be logged.
    quietReqLogger: true,
    customAttributeKeys: { reqId: 'requestId' },
    customSuccessObject: (request, response, fields: Fields) => describe(request, response, fields),
    customErrorObject: (request, response, _error, fields: Fields) => describe(request, response, fields),
    customSuccessMessage: () => 'request answered',
    customErrorMessage: () => 'request failed',
    customLogLevel: (_request, response) => (response.statusCode >= 500 ? 'error' : 'info'),
  }) as unknown as RequestHandler
}

interface Fields {
  responseTime: number
}

function describe(
  request: IncomingMessage,
  response: ServerResponse,
  { responseTime }: Fields,
): Record<string, unknown> {
  const { route, actor } = (response as ServerResponse & { locals?: Record<string, unknown> }).locals ?? {}
  return { method: request.method, route, status: response.statusCode, actor, durationMs: responseTime }
}
