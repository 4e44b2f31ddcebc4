import type { ClientRequest, IncomingMessage } from 'node:http'
import type { Received, Send } from '@ledgerman/client'
import { sendOverLine } from './send-over-line.js'

/**
 * Sends a request as `fetch` does, which takes longer to begin with than a command takes without it.
 *
 * @throws TypeError as `fetch` does, its cause what went wrong
 */
export const sendRequest: Send = async (address, init) => {
  const { body } = init
  const isAtHand = body === undefined || typeof body === 'string'
  try {
    return await (isAtHand && address.startsWith('http:')
      ? sendOverLine(new URL(address), { ...init, body })
      : sendByNode(address, init))
  } catch (error) {
    throw new TypeError('the request failed', { cause: (error as Error).cause ?? error })
  }
}

/** By Node's own HTTP client: what is sent as it comes, and over TLS. */
const sendByNode: Send = (address, { method, headers, body, signal }) => {
  // Few need it, and the bundle, which V8 has compiled before, can import nothing by itself.
  const { request: send } = process.getBuiltinModule(address.startsWith('https:') ? 'node:https' : 'node:http')
  return new Promise((resolve, reject) => {
    const options = {
      method,
      headers: { ...headers, ...(typeof body === 'string' ? { 'content-length': Buffer.byteLength(body) } : {}) },
      // One command, one connection: nothing is kept open that would keep the command from ending.
      agent: false as const,
    }
    const request = send(address, options, (message) => resolve(toReceived(message))).on('error', reject)
    giveUpOn(signal, request)
    if (body === undefined || typeof body === 'string') request.end(body)
    // An answer may come before all is sent: then the rest is not wanted.
    else
      process
        .getBuiltinModule('node:stream')
        .Readable.from(body as AsyncIterable<Uint8Array>)
        .on('error', reject)
        .pipe(request)
  })
}

/** Ends a request with its signal. That of the request's own options does the same, and takes longer to load than to send it. */
function giveUpOn(signal: AbortSignal | undefined, request: ClientRequest): void {
  const giveUp = () => request.destroy(new Error('given up', { cause: signal?.reason }))
  if (signal?.aborted) giveUp()
  signal?.addEventListener('abort', giveUp, { once: true })
  request.on('close', () => signal?.removeEventListener('abort', giveUp))
}

function toReceived(message: IncomingMessage): Received {
  const status = message.statusCode ?? 0
  return {
    ok: status >= 200 && status < 300,
    status,
    headers: {
      get(name) {
        const value = message.headers[name]
        return Array.isArray(value) ? value.join(', ') : (value ?? null)
      },
    },
    body: message,
    // By events, as an iterator of the stream takes longer to make than to read it.
    text: () =>
      new Promise((resolve, reject) => {
        const chunks: Uint8Array[] = []
        message
          .on('data', (chunk: Uint8Array) => chunks.push(chunk))
          .on('end', () => resolve(Buffer.concat(chunks).toString()))
          .on('error', reject)
      }),
  }
}
