import { Writable } from 'node:stream'
import { pipeline } from 'node:stream/promises'
import type { Response } from 'express'
import { printJson, toProblemDocument, type LedgermanProblem } from '@ledgerman/contract'
import type { Reply } from './route.js'

/** How long a caller may read nothing of what is sent, in milliseconds, before the connection is broken off. */
const READ_PATIENCE_MS = 20_000

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
  // What the system has taken is on its way; only what still waits here needs a limit.
  if (response.writableLength > 0) response.setTimeout(READ_PATIENCE_MS, () => response.destroy())
}

/**
 * Sends a reply that is made while it is sent, no faster than the caller reads, and not to one who does not read at all. The first
 * part is made before anything is sent, so that what goes wrong until then is still told as a problem.
 */
export async function sendStream(response: Response, { status, stream, headers = {} }: Reply): Promise<void> {
  if (!stream) return
  const chunks = stream.chunks[Symbol.asyncIterator]()
  const first = await chunks.next()
  response.writeHead(status, { ...API_HEADERS, ...AS_IT_COMES, ...headers, 'content-type': stream.contentType })
  // Nothing is made for a HEAD, which is told no content (RFC 9110, section 9.3.2): events would go on for nobody.
  if (response.req.method === 'HEAD') {
    response.end()
    await chunks.return?.()
    return
  }
  response.flushHeaders()
  let timer: NodeJS.Timeout | undefined
  const patience = new Writable({
    decodeStrings: false,
    write(chunk: string | Uint8Array, _encoding, done) {
      timer = setTimeout(() => response.destroy(), READ_PATIENCE_MS)
      const next = () => {
        clearTimeout(timer)
        done()
      }
      if (response.write(chunk)) next()
      else response.once('drain', next)
    },
    final: (done) => void response.end(done),
    destroy(error, done) {
      clearTimeout(timer)
      if (error) response.destroy()
      done(error)
    },
  })
  response.once('close', () => patience.destroy())
  try {
    await pipeline(rest(first, chunks), patience)
  } catch {
    response.destroy()
  }
}

type Chunk = string | Uint8Array

async function* rest(first: IteratorResult<Chunk>, chunks: AsyncIterator<Chunk>): AsyncGenerator<Chunk> {
  try {
    for (let next = first; !next.done; next = await chunks.next()) yield next.value
  } finally {
    await chunks.return?.()
  }
}

/** Nothing the interface answers is a page, or is to be guessed at. */
const API_HEADERS = { 'x-content-type-options': 'nosniff', 'content-security-policy': "default-src 'none'" }

/** A proxy that collects an answer before it passes it on would keep events from whoever waits for them. */
const AS_IT_COMES = { 'x-accel-buffering': 'no' }

/** Answers with a problem document (RFC 9457). */
export function sendProblem(response: Response, problem: LedgermanProblem): void {
  const document = toProblemDocument(
    problem.code,
    problem.detail,
    problem.facts,
    response.req.originalUrl.split('?')[0],
  )
  if (problem.code === 'unauthenticated') response.set('www-authenticate', 'Bearer')
  // When it is back is not known; soon, mostly (RFC 9110, section 10.2.3).
  if (document.status === 503 || document.status === 429) response.set('retry-after', '1')
  response.status(document.status).type('application/problem+json').send(printJson(document))
}
