import {
  parsePrinted,
  type Adoption,
  type CodeFile,
  type CodeInput,
  type CodeProof,
  type DrillReport,
  type DrillRequest,
  type DrilledRun,
  type Overview,
  type Progress,
  type Review,
  type ReviewInput,
  type SessionEnded,
  type Staged,
  type StagedInput,
  type Waits,
  type Walk,
} from '@ledgerman/contract'
import type { HttpClient } from './http-client.js'

/** How long a review may take, in milliseconds. */
const REVIEW_LIMIT_MS = 6 * 60_000

/** What is asked of a target beside its records: what goes on there, drills, written code, reviews. */
export class TargetTools {
  readonly #http: HttpClient
  readonly #path: string

  constructor(http: HttpClient, path: string) {
    this.#http = http
    this.#path = path
  }

  /** What needs attention, and what the newest entries add up to. */
  async overview(): Promise<Overview> {
    return (await this.#http.send<Overview>(`${this.#path}/overview`)).body
  }

  /** Drills runs in a scratch database, and is told how far that is. */
  async drill<Kind extends DrillReport['kind']>(
    input: DrillRequest & { kind: Kind },
    onProgress?: (progress: Progress) => void,
    signal?: AbortSignal,
  ): Promise<Extract<DrillReport, { kind: Kind }>> {
    const request = { method: 'POST' as const, body: input, signal }
    return this.#http.follow(`${this.#path}/drills`, request, { onProgress })
  }

  /** Begins to go through a run step by step in a scratch database. */
  async beginWalk(run: DrilledRun): Promise<Walk> {
    return (await this.#http.send<Walk>(`${this.#path}/walks`, { method: 'POST', body: { run } })).body
  }

  /** Runs the next step, or after the last one the commit. */
  async nextStep(walk: string): Promise<Walk> {
    return (await this.#http.send<Walk>(`${this.#path}/walks/${encodeURIComponent(walk)}/next`, { method: 'POST' }))
      .body
  }

  async stopWalk(walk: string): Promise<void> {
    await this.#http.send(`${this.#path}/walks/${encodeURIComponent(walk)}`, { method: 'DELETE' })
  }

  /** Who blocks whom, right now. */
  async waits(): Promise<Waits> {
    return (await this.#http.send<Waits>(`${this.#path}/waits`)).body
  }

  /** The same, again and again, until `signal` fires. */
  async *watchWaits(signal?: AbortSignal): AsyncGenerator<Waits> {
    for await (const { data } of this.#http.events(`${this.#path}/waits/events`, {}, signal))
      yield parsePrinted(data) as unknown as Waits
  }

  /** Cancels what a session runs, or ends it: the session of that pid that began at that moment. */
  async endSession(pid: number, startedAt: string, action: 'cancel' | 'end'): Promise<SessionEnded> {
    const request = { method: 'POST' as const, body: { startedAt } }
    return (await this.#http.send<SessionEnded>(`${this.#path}/waits/${pid}/${action}`, request)).body
  }

  /** Stages what goes wrong between two programs, on the demo only. */
  async stage(input: Partial<StagedInput> & Pick<StagedInput, 'what'>): Promise<Staged> {
    return (await this.#http.send<Staged>(`${this.#path}/staged`, { method: 'POST', body: input })).body
  }

  /** Writes data-access code for these mappings and transactions; for all where nothing is said. */
  async code(input: CodeInput = {}): Promise<CodeFile[]> {
    const request = { method: 'POST' as const, body: input }
    return (await this.#http.send<{ files: CodeFile[] }>(`${this.#path}/code`, request)).body.files
  }

  /** Runs examples and records through the service and through the written code, in a scratch database, and compares. */
  async proveCode(input: CodeInput = {}, onProgress?: (progress: Progress) => void): Promise<CodeProof> {
    const request = { method: 'POST' as const, body: input }
    return this.#http.follow(`${this.#path}/code/proof`, request, { onProgress })
  }

  /** Reviews the statements in files against the live catalogue. */
  async review(input: ReviewInput, signal?: AbortSignal): Promise<Review> {
    const request = { method: 'POST' as const, body: input, timeLimitMs: REVIEW_LIMIT_MS, signal }
    return (await this.#http.send<Review>(`${this.#path}/review`, request)).body
  }

  /** Makes transactions of the functions in files that change records; nothing is published. */
  async adopt(input: ReviewInput, signal?: AbortSignal): Promise<Adoption> {
    const request = { method: 'POST' as const, body: input, timeLimitMs: REVIEW_LIMIT_MS, signal }
    return (await this.#http.send<Adoption>(`${this.#path}/review/adoption`, request)).body
  }

  /** The tables as a review without a database needs them. */
  async reviewCatalogue(): Promise<Record<string, unknown>> {
    return (await this.#http.send<Record<string, unknown>>(`${this.#path}/review/catalogue`)).body
  }
}
