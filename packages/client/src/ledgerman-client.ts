import {
  isProblem,
  parsePrinted,
  type Job,
  type JobList,
  type JobState,
  type NewToken,
  type SessionInfo,
  type TargetInfo,
  type TokenInfo,
  type TokenInput,
} from '@ledgerman/contract'
import { Draft, type DraftRecords } from './draft/draft.js'
import { HttpClient, type ConnectionOptions } from './http-client.js'
import { TargetClient } from './target-client.js'

/** How long is waited before a service that broke off is asked for a job again, in milliseconds. */
const ASK_AGAIN_MS = 500

/** The service's calls, typed. Each throws `LedgermanProblem` as the service answers it. */
export class LedgermanClient {
  readonly #http: HttpClient

  constructor(options: ConnectionOptions) {
    this.#http = new HttpClient(options)
  }

  /** Exchanges a token for a browser session. */
  async signIn(token: string): Promise<SessionInfo> {
    return (await this.#http.send<SessionInfo>('/v1/session', { method: 'POST', body: { token } })).body
  }

  async signOut(): Promise<void> {
    await this.#http.send('/v1/session', { method: 'DELETE' })
  }

  async session(): Promise<SessionInfo> {
    return (await this.#http.send<SessionInfo>('/v1/session')).body
  }

  async targets(): Promise<TargetInfo[]> {
    return (await this.#http.send<{ targets: TargetInfo[] }>('/v1/targets')).body.targets
  }

  async tokens(): Promise<TokenInfo[]> {
    return (await this.#http.send<{ tokens: TokenInfo[] }>('/v1/tokens')).body.tokens
  }

  async addToken(input: TokenInput): Promise<NewToken> {
    return (await this.#http.send<NewToken>('/v1/tokens', { method: 'POST', body: input })).body
  }

  async revokeToken(id: string): Promise<void> {
    await this.#http.send(`/v1/tokens/${encodeURIComponent(id)}`, { method: 'DELETE' })
  }

  /** The jobs, the newest first. */
  async jobs(
    filter: {
      target?: string | undefined
      state?: JobState | undefined
      limit?: number
      after?: string | undefined
    } = {},
  ): Promise<JobList> {
    return (await this.#http.send<JobList>('/v1/jobs', { query: filter })).body
  }

  /** @throws LedgermanProblem not-found */
  async job(id: string): Promise<Job> {
    return (await this.#http.send<Job>(jobPath(id))).body
  }

  /**
   * A job again and again, as it goes on, and at last as it ended. A service that stops or breaks off meanwhile is waited for: another one,
   * or the same begun again, goes on with the job.
   *
   * @throws LedgermanProblem not-found; target-unavailable where the service is away for longer than `awayLimitMs`, which says nothing of the job
   */
  async *followJob(id: string, signal?: AbortSignal, awayLimitMs = 30_000): AsyncGenerator<Job> {
    let awaySince: number | undefined
    for (;;) {
      try {
        for await (const { data } of this.#http.events(`${jobPath(id)}/events`, {}, signal)) {
          const job = parsePrinted(data) as unknown as Job
          awaySince = undefined
          yield job
          if (job.state !== 'queued' && job.state !== 'running') return
        }
      } catch (error) {
        if (!isProblem(error, 'target-unavailable') || signal?.aborted) throw error
        awaySince ??= performance.now()
        if (performance.now() - awaySince > awayLimitMs) throw error
      }
      if (signal?.aborted) return
      await new Promise((resolve) => setTimeout(resolve, ASK_AGAIN_MS))
    }
  }

  /** @throws LedgermanProblem job-ended where it is over */
  async cancelJob(id: string): Promise<Job> {
    return (await this.#http.send<Job>(jobPath(id), { method: 'DELETE' })).body
  }

  /** @throws LedgermanProblem job-ended where it neither failed nor was cancelled */
  async resumeJob(id: string): Promise<Job> {
    return (await this.#http.send<Job>(`${jobPath(id)}/resume`, { method: 'POST' })).body
  }

  /** The rows of a job's file that were not applied, as text in the form they came in. */
  failedRows(id: string): AsyncGenerator<string> {
    return this.#http.receive(`${jobPath(id)}/failed-rows`, {}, 'text/csv, application/x-ndjson')
  }

  /** Collects changes of a target's records, to be committed as one. */
  draft<Records extends DraftRecords = DraftRecords>(target: string): Draft<Records> {
    return new Draft<Records>(this.target(target))
  }

  /** What concerns one target. */
  target(name: string): TargetClient {
    return new TargetClient(this.#http, name)
  }
}

function jobPath(id: string): string {
  return `/v1/jobs/${encodeURIComponent(id)}`
}
