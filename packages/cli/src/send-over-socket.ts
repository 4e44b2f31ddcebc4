import { connect, type Socket } from 'node:net'
import { Readable } from 'node:stream'
import { HTTPParser } from 'http-parser-js'
import type { Received } from '@ledgerman/client'

/** A request whose body, if any, is at hand. */
export interface ShortRequest {
  method: string
  headers: Record<string, string>
  body?: string | undefined
  signal?: AbortSignal | undefined
}

/**
 * Sends one request over a connection of its own (RFC 9112), and reads the answer. Node's HTTP client does the same, and takes a tenth of
 * a command's time to be compiled: what Node brings with it is compiled anew in each process, this was compiled when it was built.
 *
 * @param address of a service that is spoken to without TLS
 * @throws Error as the connection gives it, or what the answer breaks of HTTP
 */
export function sendOverSocket(address: URL, request: ShortRequest): Promise<Received> {
  return new Promise((resolve, reject) => {
    const socket = connect({ host: address.hostname.replace(/^\[|\]$/g, ''), port: Number(address.port || 80) })
    const parser = newParser()
    let content: Content | undefined
    let isComplete = false
    const fail = (error: Error) => {
      socket.destroy()
      reject(error)
      content?.end(error)
    }
    parser[HTTPParser.kOnHeadersComplete] = ({ statusCode: status, headers }) => {
      // One that only says that the answer is to come (RFC 9110, section 15.2).
      if (status < 200) return
      const of = (content = new Content(socket))
      resolve({
        ok: status < 300,
        status,
        headers: { get: (name) => headerOf(headers, name) },
        get body() {
          return of.stream()
        },
        text: () => of.text(),
      })
    }
    parser[HTTPParser.kOnBody] = (bytes, offset, length) => content?.take(bytes.subarray(offset, offset + length))
    parser[HTTPParser.kOnMessageComplete] = () => {
      if (content === undefined) return
      isComplete = true
      content.end()
      // The service hangs up as well. Most commands have ended before this.
      setImmediate(() => socket.destroy())
    }
    const giveUp = () => fail(new Error('given up', { cause: request.signal?.reason }))
    socket
      .on('data', (bytes: Buffer) => {
        if (isComplete) return
        const outcome = parser.execute(bytes)
        if (outcome instanceof Error) fail(outcome)
      })
      .on('end', () => {
        if (!isComplete) parser.finish()
        // As Node has it for a connection that is closed too soon.
        if (!isComplete) fail(Object.assign(new Error('the connection was closed'), { code: 'ECONNRESET' }))
      })
      .on('error', fail)
      .on('close', () => request.signal?.removeEventListener('abort', giveUp))
    if (request.signal?.aborted) giveUp()
    request.signal?.addEventListener('abort', giveUp, { once: true })
    // Not ended: a proxy takes one who has said all for one who has gone.
    socket.cork()
    socket.write(head(address, request), 'latin1')
    if (request.body) socket.write(request.body)
    socket.uncork()
  })
}

/** A parser that takes no size below 0, of a chunk or of all: it would go back by so much, and read the same for ever. */
function newParser(): InstanceType<typeof HTTPParser> {
  let left: number | null = null
  return Object.defineProperty(new HTTPParser(HTTPParser.RESPONSE), 'body_bytes', {
    get: () => left,
    set(bytes: number | null) {
      if (bytes !== null && !(bytes >= 0)) throw new Error('the answer gives a size that is none')
      left = bytes
    },
  })
}

/** What an answer holds: kept until somebody asks for it, as one text or as it comes. */
class Content {
  readonly #socket: Socket
  readonly #kept: Uint8Array[] = []
  #stream: Readable | undefined
  #ended: { by: Error | undefined } | undefined
  #whenEnded: (() => void) | undefined

  constructor(socket: Socket) {
    this.#socket = socket
  }

  take(bytes: Uint8Array): void {
    if (this.#stream === undefined) this.#kept.push(bytes)
    else if (!this.#stream.push(bytes)) this.#socket.pause()
  }

  end(by?: Error): void {
    if (this.#ended) return
    this.#ended = { by }
    this.#whenEnded?.()
  }

  /** @throws Error what ended it before its time */
  text(): Promise<string> {
    return new Promise((resolve, reject) => {
      this.#onEnd((by) => (by ? reject(by) : resolve(Buffer.concat(this.#kept).toString())))
    })
  }

  stream(): Readable {
    if (this.#stream) return this.#stream
    const stream = new Readable({
      read: () => void this.#socket.resume(),
      destroy: (error, done) => {
        this.#socket.destroy()
        done(error)
      },
    })
    for (const bytes of this.#kept.splice(0)) stream.push(bytes)
    this.#stream = stream
    this.#onEnd((by) => (by ? stream.destroy(by) : stream.push(null)))
    return stream
  }

  #onEnd(tell: (by: Error | undefined) => void): void {
    this.#whenEnded = () => tell(this.#ended?.by)
    if (this.#ended) this.#whenEnded()
  }
}

function head({ pathname, search, host }: URL, { method, headers, body }: ShortRequest): string {
  const lines = [`${method} ${pathname}${search} HTTP/1.1`, `host: ${host}`, 'connection: close']
  for (const name in headers) lines.push(`${name}: ${headers[name]}`)
  if (body !== undefined) lines.push(`content-length: ${Buffer.byteLength(body)}`)
  return `${lines.join('\r\n')}\r\n\r\n`
}

/** A header of an answer, its name in lower case, from names and values in turn. */
function headerOf(pairs: readonly string[], name: string): string | null {
  const values = pairs.filter((_, at) => at % 2 === 1 && pairs[at - 1]?.toLowerCase() === name)
  return values.length > 0 ? values.join(', ') : null
}
