import type { Readable } from 'node:stream'
import { HTTPParser } from 'http-parser-js'
import type { Received } from '@ledgerman/client'
import { findHandleLine } from './handle-line.js'
import type { Line } from './line.js'
import { openSocketLine } from './socket-line.js'

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
export function sendOverLine(address: URL, request: ShortRequest): Promise<Received> {
  return new Promise((resolve, reject) => {
    const { signal } = request
    const parser = newParser()
    let content: Content | undefined
    let isComplete = false
    const close = () => {
      line.close()
      signal?.removeEventListener('abort', giveUp)
    }
    const fail = (error: Error) => {
      close()
      reject(error)
      content?.end(error)
    }
    const giveUp = () => fail(new Error('given up', { cause: signal?.reason }))
    parser[HTTPParser.kOnHeadersComplete] = ({ statusCode: status, headers }) => {
      // One that only says that the answer is to come (RFC 9110, section 15.2).
      if (status < 200) return
      const of = (content = new Content({ ...line, close }))
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
      setImmediate(close)
    }
    const to = { host: address.hostname.replace(/^\[|\]$/g, ''), port: Number(address.port || 80) }
    const open = findHandleLine(to) ?? openSocketLine
    const line = open(to, messageOf(address, request), {
      bytes(bytes) {
        if (isComplete) return
        const outcome = parser.execute(bytes)
        if (outcome instanceof Error) fail(outcome)
      },
      end() {
        if (!isComplete) parser.finish()
        // As Node has it for a connection that is closed too soon.
        if (!isComplete) fail(Object.assign(new Error('the connection was closed'), { code: 'ECONNRESET' }))
      },
      failed: fail,
    })
    if (signal?.aborted) giveUp()
    signal?.addEventListener('abort', giveUp, { once: true })
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
  readonly #line: Line
  readonly #kept: Uint8Array[] = []
  #stream: Readable | undefined
  #ended: { by: Error | undefined } | undefined
  #whenEnded: (() => void) | undefined

  constructor(line: Line) {
    this.#line = line
  }

  take(bytes: Uint8Array): void {
    if (this.#stream === undefined) this.#kept.push(bytes)
    else if (!this.#stream.push(bytes)) this.#line.pause()
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
    // Most answers are asked for as one text, and Node's streams take longer to load than that takes.
    const stream = new (process.getBuiltinModule('node:stream').Readable)({
      read: () => this.#line.resume(),
      destroy: (error, done) => {
        this.#line.close()
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

function messageOf({ pathname, search, host }: URL, { method, headers, body }: ShortRequest): Buffer {
  const lines = [`${method} ${pathname}${search} HTTP/1.1`, `host: ${host}`, 'connection: close']
  for (const name in headers) lines.push(`${name}: ${headers[name]}`)
  if (body !== undefined) lines.push(`content-length: ${Buffer.byteLength(body)}`)
  const head = Buffer.from(`${lines.join('\r\n')}\r\n\r\n`, 'latin1')
  return body ? Buffer.concat([head, Buffer.from(body)]) : head
}

/** A header of an answer, its name in lower case, from names and values in turn. */
function headerOf(pairs: readonly string[], name: string): string | null {
  const values = pairs.filter((_, at) => at % 2 === 1 && pairs[at - 1]?.toLowerCase() === name)
  return values.length > 0 ? values.join(', ') : null
}
