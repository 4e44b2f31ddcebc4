import { createParser, type EventSourceMessage } from 'eventsource-parser'
import {
  LedgermanProblem,
  parsePrinted,
  printJson,
  PROBLEM_CODES,
  restyleAll,
  type LockHolder,
  type PlaceholderStyle,
  type ProblemCode,
  type Progress,
} from '@ledgerman/contract'
import { assertHeaders } from './header-values.js'
import { toPlain } from './plain-value.js'

export interface ConnectionOptions {
  /** Where the service is, e.g. `http://127.0.0.1:4680`; empty for the page's own origin. */
  url: string
  /** Left out where a session cookie stands for it. */
  token?: string | undefined
  /** How requests are sent. @default fetch */
  fetch?: Send
  /** For how long an answer is waited for, or the next word of a call that is followed, in milliseconds. @default 60000 */
  timeLimitMs?: number
  /** How the placeholders of statements in answers are written. @default dollar */
  style?: PlaceholderStyle | undefined
}

/** The part of an answer that is read. */
export interface Received {
  ok: boolean
  status: number
  headers: { get(name: string): string | null }
  text(): Promise<string>
  body: AsyncIterable<Uint8Array> | null
}

/** A body that is sent as it comes: a browser's file, or bytes read elsewhere. */
export type StreamedBody = Blob | AsyncIterable<Uint8Array>

/** The part of `fetch` (WHATWG Fetch) that is used. */
export type Send = (
  address: string,
  init: {
    method: string
    headers: Record<string, string>
    body?: string | StreamedBody
    duplex?: 'half'
    signal?: AbortSignal
  },
) => Promise<Received>

export interface Request {
  method?: 'GET' | 'PUT' | 'POST' | 'PATCH' | 'DELETE'
  /** Printed as JSON; a string is sent as it stands. */
  body?: unknown
  contentType?: string
  headers?: Record<string, string>
  query?: Record<string, string | number | boolean | undefined>
  /** A body that is sent as it comes, in place of `body`. */
  stream?: StreamedBody
  /** For how long an answer is waited for, in milliseconds, where other than mostly. */
  timeLimitMs?: number
  /** Whether it may leave something changed: without an answer nobody knows then what became of it. */
  mayChange?: boolean
  /** Gives it up: the service then ends what it does for it. */
  signal?: AbortSignal | undefined
}

/** Told on a call's way. */
export interface Follower {
  /** Who holds the lock that it waits for. */
  onWait?: ((holders: LockHolder[]) => void) | undefined
  onProgress?: ((progress: Progress) => void) | undefined
}

export interface Answer<T> {
  status: number
  body: T
  /** The entity tag without its quotes. */
  guard: string | null
}

/** Longer than any call may take that gives no limit of its own, and than a call that is followed may say nothing, which is 15 s. */
const TIME_LIMIT_MS = 60_000

/** One call to the service: JSON read and written without losing a digit, problems thrown as `LedgermanProblem`. */
export class HttpClient {
  readonly #url: string
  readonly #options: ConnectionOptions

  constructor(options: ConnectionOptions) {
    const { url } = (options ?? {}) as Partial<ConnectionOptions>
    if (typeof url !== 'string' || !/^(?:https?:\/\/|\/|$)/i.test(url))
      throw new LedgermanProblem(
        'request-invalid',
        `url: expected the address of the service, such as http://127.0.0.1:4680, got ${url === undefined ? 'none' : String(url)}.`,
        { where: 'url' },
      )
    this.#url = url.replace(/(?<!\/)\/+$/, '')
    this.#options = options
  }

  /** @throws LedgermanProblem as the service answered it; target-unavailable where the service does not answer. */
  async send<T>(path: string, request: Request = {}): Promise<Answer<T>> {
    const timeLimitMs = request.timeLimitMs ?? this.#options.timeLimitMs ?? TIME_LIMIT_MS
    const limit = new AbortController()
    const timer = setTimeout(
      () => limit.abort(new DOMException('the answer took too long', 'TimeoutError')),
      timeLimitMs,
    )
    const signal = request.signal ? AbortSignal.any([limit.signal, request.signal]) : limit.signal
    const { answer, text } = await this.#whole(path, request, signal).finally(() => clearTimeout(timer))
    if (!answer.ok) throw problemFrom(answer, text, this.#url, request)
    const tag = answer.headers.get('etag')
    return {
      status: answer.status,
      body: this.#inStyle((text === '' ? undefined : parsePrinted(text)) as T),
      guard: tag === null ? null : tag.slice(1, -1),
    }
  }

  /**
   * Sends a call and is told while it waits for a lock, by server-sent events; then answers or throws as `send`.
   *
   * @throws LedgermanProblem as `send`
   */
  async follow<T>(path: string, request: Request, { onWait, onProgress }: Follower): Promise<T> {
    for await (const { event, data } of this.#eventsOf(path, request)) {
      if (event === 'progress') onProgress?.(parsePrinted(data) as unknown as Progress)
      if (event === 'waiting') onWait?.((parsePrinted(data) as unknown as { holders: LockHolder[] }).holders)
      if (event !== 'answer') continue
      const { status, body } = parsePrinted(data) as unknown as { status: number; body: T }
      if (status >= 400) throw toProblem(body as Record<string, unknown>)
      return this.#inStyle(body)
    }
    throw lostAnswer(this.#url, request, undefined)
  }

  async #whole(path: string, request: Request, signal: AbortSignal): Promise<{ answer: Received; text: string }> {
    const answer = await this.#fetch(path, request, 'application/json', signal)
    try {
      return { answer, text: await answer.text() }
    } catch (error) {
      if (isGivenUp(request)) throw givenUp(error)
      throw lostAnswer(this.#url, request, error)
    }
  }

  #inStyle<T>(body: T): T {
    return restyleAll(body, this.#options.style ?? 'dollar')
  }

  /** The events of a call that is followed; where they break off its answer is lost. */
  async *#eventsOf(path: string, request: Request): AsyncGenerator<{ event: string; data: string }> {
    try {
      yield* this.events(path, request)
    } catch (error) {
      const isCut = error instanceof LedgermanProblem && error.facts['isCut'] === true
      throw isCut ? lostAnswer(this.#url, request, error.cause) : error
    }
  }

  /** Receives server-sent events (WHATWG HTML, "Server-sent events"). A service that says nothing for long, though it would have said so, is given up. */
  async *events(
    path: string,
    request: Request = {},
    signal: AbortSignal | undefined = request.signal,
  ): AsyncGenerator<{ event: string; data: string }> {
    const received: EventSourceMessage[] = []
    const parser = createParser({ onEvent: (message) => void received.push(message) })
    const silenceMs = this.#options.timeLimitMs ?? TIME_LIMIT_MS
    const silence = new AbortController()
    const end = () => silence.abort(new Error(`nothing was heard for ${silenceMs / 1000} s`))
    const either = signal ? AbortSignal.any([signal, silence.signal]) : silence.signal
    let timer = setTimeout(end, silenceMs)
    try {
      for await (const text of this.receive(path, request, 'text/event-stream', either)) {
        clearTimeout(timer)
        parser.feed(text)
        for (const { event = '', data } of received.splice(0)) if (data !== '') yield { event, data }
        timer = setTimeout(end, silenceMs)
      }
    } catch (error) {
      throw silence.signal.aborted ? brokenOff(this.#url, silence.signal.reason) : error
    } finally {
      clearTimeout(timer)
    }
  }

  /**
   * Receives an answer as it comes, piece by piece, in the media type asked for.
   *
   * @throws LedgermanProblem as `send`; target-unavailable where the transfer breaks off before its end.
   */
  async *receive(
    path: string,
    request: Request,
    accept: string,
    signal: AbortSignal | undefined = request.signal,
  ): AsyncGenerator<string> {
    const answer = await this.#fetch(path, request, accept, signal)
    if (!answer.ok) throw problemFrom(answer, await answer.text(), this.#url, request)
    const decoder = new TextDecoder()
    try {
      for await (const bytes of answer.body ?? []) yield decoder.decode(bytes, { stream: true })
    } catch (error) {
      if (isGivenUp(request)) throw givenUp(error)
      throw brokenOff(this.#url, error)
    }
    yield decoder.decode()
  }

  #fetch(path: string, request: Request, accept: string, signal: AbortSignal | undefined): Promise<Received> {
    const { method = 'GET', body, stream, contentType = 'application/json', headers = {}, query = {} } = request
    const given = Object.entries(query).flatMap(([name, value]) =>
      value === undefined ? [] : [[name, String(value)] as [string, string]],
    )
    const parameters = given.length > 0 ? `?${new URLSearchParams(given).toString()}` : ''
    const { token, fetch: send = globalThis.fetch as unknown as Send } = this.#options
    const sent = {
      accept,
      ...(token === undefined ? {} : { authorization: `Bearer ${token}` }),
      ...(body === undefined && stream === undefined ? {} : { 'content-type': contentType }),
      ...headers,
    }
    assertHeaders(sent)
    return send(`${this.#url}${path}${parameters}`, {
      method,
      headers: sent,
      ...(signal ? { signal } : {}),
      // A body that is read as it is sent says so (WHATWG Fetch, RequestDuplex).
      ...(stream === undefined ? {} : { body: stream, duplex: 'half' as const }),
      ...(body === undefined ? {} : { body: printedBody(request) }),
    }).catch((error: unknown) => {
      if (isGivenUp(request)) throw givenUp(error)
      throw wasNeverSent(error) ? unreachable(this.#url, error) : lostAnswer(this.#url, request, error)
    })
  }
}

/**
 * A body as it is sent.
 *
 * @throws LedgermanProblem value-invalid for what JSON cannot carry, by its place
 */
function printedBody({ body, contentType }: Request): string {
  if (typeof body !== 'string') return printJson(toPlain('', body))
  if (contentType !== undefined) return body
  throw new LedgermanProblem(
    'request-invalid',
    `The call takes an object, and was given the text "${body.slice(0, 40)}".`,
    {
      where: 'body',
    },
  )
}

/** Whether the caller gave up a call that changes nothing: of one that does, nobody knows what became of it. */
function isGivenUp({ signal, mayChange = false }: Request): boolean {
  return signal?.aborted === true && !mayChange
}

function givenUp(cause: unknown): LedgermanProblem {
  return new LedgermanProblem('cancelled', 'Stopped.', {}, { cause })
}

/** Whether nobody was there to take the request, or nobody who could be trusted. */
function wasNeverSent(error: unknown): boolean {
  const cause = error instanceof Error ? (error.cause as { code?: unknown } | undefined) : undefined
  const code = String(cause?.code)
  return (
    /^(?:ECONNREFUSED|ENOTFOUND|EAI_AGAIN|EHOSTUNREACH|ENETUNREACH|ERR_INVALID_URL)$/.test(code) ||
    IS_OF_CERTIFICATE.test(code)
  )
}

/** Codes for a connection that was there, and of which no answer came. */
const IS_BROKEN = /^(?:ECONNRESET|EPIPE|UND_ERR_SOCKET|UND_ERR_HEADERS_TIMEOUT|UND_ERR_BODY_TIMEOUT)$/
/** Codes for a certificate that is not taken (Node's, and OpenSSL's X509_V_ERR_* without that): with it nothing was sent. */
const IS_OF_CERTIFICATE = /CERT|^UNABLE_TO_/

function brokenOff(url: string, cause: unknown): LedgermanProblem {
  return new LedgermanProblem(
    'target-unavailable',
    'The transfer broke off before its end: what was received is not all.',
    { service: url, isCut: true },
    { cause },
  )
}

/** The problem for a call that was sent, and whose answer never came. */
function lostAnswer(
  url: string,
  { mayChange }: Request,
  error: unknown,
  why = 'The connection broke before the answer came.',
): LedgermanProblem {
  if (mayChange !== true) return unreachable(url, error ?? new Error('the connection broke before the answer came'))
  return new LedgermanProblem(
    'outcome-unknown',
    `${why} Whether it changed anything is not known: look into the book for its entry.`,
    { service: url },
    { cause: error },
  )
}

function unreachable(url: string, error: unknown): LedgermanProblem {
  const cause = error instanceof Error && error.cause instanceof Error ? error.cause : error
  const words = cause instanceof Error ? cause.message : String(cause)
  const { code, name } = cause as { code?: unknown; name?: string }
  const isThere = IS_BROKEN.test(String(code)) || name === 'TimeoutError'
  return new LedgermanProblem(
    'target-unavailable',
    `The service at ${url || 'this address'} ${isThere ? 'gave no answer' : 'cannot be reached'}: ${reasonOf(cause) ?? `${words || 'no answer'}. Is it running?`}`,
    { service: url },
    { cause: error },
  )
}

/** What TLS has against it, in the codes of Node and OpenSSL; undefined where it is something else. */
function reasonOf(cause: unknown): string | undefined {
  const { code = '', message = '' } = cause as { code?: string; message?: string }
  if (code === 'EPROTO') return 'it does not speak TLS there. Is it http:// in place of https://?'
  if (code === 'ERR_TLS_CERT_ALTNAME_INVALID') return `${message} Use a name that its certificate is for.`
  if (IS_OF_CERTIFICATE.test(code))
    return `${message}. Have Node trust the certificate that signed it: NODE_EXTRA_CA_CERTS=FILE.`
  return undefined
}

function problemFrom(answer: Received, text: string, url: string, request: Request): LedgermanProblem {
  const isProblem = answer.headers.get('content-type')?.startsWith('application/problem+json') ?? false
  return isProblem ? toProblem(parsePrinted(text) as Record<string, unknown>) : saidByAnother(answer, url, request)
}

/** The service itself answers with problems: what else comes is of a proxy before it, or there is something else at the address. */
function saidByAnother({ status, headers }: Received, url: string, request: Request): LedgermanProblem {
  const place = headers.get('location')
  if (status >= 300 && status < 400 && place !== null) {
    const origin = URL.canParse(place) ? new URL(place).origin : place
    return new LedgermanProblem('request-invalid', `${url} leads on to ${origin}. Give that address.`, { where: 'url' })
  }
  if (status === 413)
    return new LedgermanProblem('too-large', 'A proxy before the service takes no body of that size (413).')
  // It may have passed the request on: what became of that it does not know.
  if (status >= 502 && status <= 504)
    return lostAnswer(url, request, new Error(`a proxy before it answered ${status}`), `A proxy answered ${status}.`)
  return new LedgermanProblem(
    'internal',
    `The service answered ${status} with something that is no problem document; is it Ledgerman at this address?`,
  )
}

function toProblem(document: Record<string, unknown>): LedgermanProblem {
  const { code, detail, type: _type, title: _title, status: _status, ...facts } = document
  const known = PROBLEM_CODES.find((each) => each === code) ?? ('internal' as ProblemCode)
  return new LedgermanProblem(known, String(detail), facts)
}
