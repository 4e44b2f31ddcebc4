import { once } from 'node:events'
import type { Response } from 'express'
import { printJson, toProblemDocument, type LedgermanProblem } from '@ledgerman/contract'
import type { Reply } from './route.js'

/** Sends a handler's reply. Headers go out at once: the framework's own way through them costs as much as a small query. */
export function sendReply(response: Response, { status, body, headers = {} }: Reply): void {
  if (body === undefined) return void response.writeHead(status, { ...API_HEADERS, ...headers }).end()
  const text = printJson(body)
  const length = Buffer.byteLength(text)
  response
    .writeHead(status, {
      ...API_HEADERS,
      ...headers,
      'content-type': 'application/json; charset=utf-8',
      'content-length': length,
    })
    .end(text)
}

/**
 * Sends a reply that is made while it is sent, no faster than the caller reads. The first part is made before anything is
 * sent, so that what goes wrong until then is still told as a problem.
 */
export async function sendStream(response: Response, { status, stream, headers = {} }: Reply): Promise<void> {
  if (!stream) return
  const chunks = stream.chunks[Symbol.asyncIterator]()
  let next = await chunks.next()
  response.writeHead(status, { ...API_HEADERS, ...headers, 'content-type': stream.contentType })
  try {
    while (!next.done && !response.closed) {
      if (!response.write(next.value)) await Promise.race([once(response, 'drain'), once(response, 'close')])
      next = await chunks.next()
    }
    response.end()
  } catch {
    response.destroy()
  } finally {
    await chunks.return?.()
  }
}

/** Nothing the interface answers is a page, or is to be guessed at. */
const API_HEADERS = { 'x-content-type-options': 'nosniff', 'content-security-policy': "default-src 'none'" }

/** Answers with a problem document (RFC 9457). */
export function sendProblem(response: Response, problem: LedgermanProblem): void {
  const document = toProblemDocument(
    problem.code,
    problem.detail,
    problem.facts,
    response.req.originalUrl.split('?')[0],
  )
  if (problem.code === 'unauthenticated') response.set('www-authenticate', 'Bearer')
  response.status(document.status).type('application/problem+json').send(printJson(document))
}
