import { LedgermanProblem, parseJson, printJson, PROBLEM_CODES, type ProblemCode } from '@ledgerman/contract'

export interface ConnectionOptions {
  /** Where the service is, e.g. `http://127.0.0.1:4680`; empty for the page's own origin. */
  url: string
  /** Left out where a session cookie stands for it. */
  token?: string | undefined
  fetch?: typeof fetch
  /** For how long an answer is waited for, in milliseconds. @default 60000 */
  timeLimitMs?: number
}

export interface Request {
  method?: 'GET' | 'PUT' | 'POST' | 'PATCH' | 'DELETE'
  /** Printed as JSON; a string is sent as it stands. */
  body?: unknown
  contentType?: string
  headers?: Record<string, string>
  query?: Record<string, string | number | undefined>
}

export interface Answer<T> {
  status: number
  body: T
  /** The entity tag without its quotes. */
  guard: string | null
}

/** One call to the service: JSON read and written without losing a digit, problems thrown as `LedgermanProblem`. */
export class HttpClient {
  readonly #url: string
  readonly #options: ConnectionOptions

  constructor(options: ConnectionOptions) {
    this.#url = options.url.replace(/\/+$/, '')
    this.#options = options
  }

  /** @throws LedgermanProblem as the service answered it; target-unavailable where the service does not answer. */
  async send<T>(
    path: string,
    { method = 'GET', body, contentType = 'application/json', headers = {}, query = {} }: Request = {},
  ): Promise<Answer<T>> {
    const parameters = new URLSearchParams(
      Object.entries(query).flatMap(([name, value]) =>
        value === undefined ? [] : [[name, String(value)] as [string, string]],
      ),
    )
    const address = `${this.#url}${path}${parameters.size > 0 ? `?${parameters.toString()}` : ''}`
    const { token, timeLimitMs = 60_000, fetch: send = globalThis.fetch } = this.#options
    const answer = await send(address, {
      method,
      headers: {
        accept: 'application/json',
        ...(token === undefined ? {} : { authorization: `Bearer ${token}` }),
        ...(body === undefined ? {} : { 'content-type': contentType }),
        ...headers,
      },
      signal: AbortSignal.timeout(timeLimitMs),
      ...(body === undefined ? {} : { body: typeof body === 'string' ? body : printJson(body) }),
    }).catch((error: unknown) => {
      throw unreachable(this.#url, error)
    })
    const text = await answer.text()
    if (!answer.ok) throw problemFrom(answer, text)
    const tag = answer.headers.get('etag')
    return {
      status: answer.status,
      body: (text === '' ? undefined : parseJson(text)) as T,
      guard: tag === null ? null : tag.slice(1, -1),
    }
  }
}

function unreachable(url: string, error: unknown): LedgermanProblem {
  const cause =
    error instanceof Error && error.cause instanceof Error
      ? error.cause.message
      : error instanceof Error
        ? error.message
        : String(error)
  return new LedgermanProblem(
    'target-unavailable',
    `The service at ${url || 'this address'} cannot be reached: ${cause || 'no answer'}. Is it running?`,
    { service: url },
    { cause: error },
  )
}

function problemFrom(answer: Response, text: string): LedgermanProblem {
  const isProblem = answer.headers.get('content-type')?.startsWith('application/problem+json') ?? false
  if (!isProblem) {
    return new LedgermanProblem(
      'internal',
      `The service answered ${answer.status} with something that is no problem document; is it Ledgerman at this address?`,
    )
  }
  const {
    code,
    detail,
    type: _type,
    title: _title,
    status: _status,
    ...facts
  } = parseJson(text) as Record<string, unknown>
  const known = PROBLEM_CODES.find((each) => each === code) ?? ('internal' as ProblemCode)
  return new LedgermanProblem(known, String(detail), facts)
}
