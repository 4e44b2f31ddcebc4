import { toRecordAddress } from '@ledgerman/contract'
import type {
  BookSizes,
  EntryProof,
  EntryRows,
  Pruning,
  PruningInput,
  Seal,
  Verification,
  VerificationInput,
} from '@ledgerman/contract'
import type { HttpClient } from './http-client.js'
import { MEDIA_TYPES, type RowForm } from './media-types.js'

/** How long reading the whole book may take, in milliseconds. */
const LONGEST_MS = 61 * 60_000

/** Which entries are meant; all where nothing is said. */
export interface EntryChoice {
  mapping?: string | undefined
  key?: readonly string[] | undefined
  outcome?: string | undefined
  actor?: string | undefined
  transaction?: string | undefined
  from?: string | undefined
  until?: string | undefined
}

/** A target's book as a whole: whether it can be trusted, and how much of it there is. */
export class BookClient {
  readonly #http: HttpClient
  readonly #path: string

  /** @param path of the target */
  constructor(http: HttpClient, path: string) {
    this.#http = http
    this.#path = path
  }

  /** The last seal. @throws LedgermanProblem not-found where there is none yet */
  async seal(): Promise<Seal> {
    return (await this.#http.send<Seal>(`${this.#path}/book/seal`)).body
  }

  /** Seals all that no seal covers yet. */
  async sealNow(): Promise<Seal> {
    const request = { method: 'POST' as const, timeLimitMs: LONGEST_MS }
    return (await this.#http.send<Seal>(`${this.#path}/book/seal`, request)).body
  }

  /** The public half of the key that seals are signed with, as PEM. */
  async key(): Promise<string> {
    return (await this.#http.send<{ key: string }>(`${this.#path}/book/key`)).body.key
  }

  /** Compares the whole book with its seals, and with one that was kept outside. */
  async verify(input: VerificationInput = {}): Promise<Verification> {
    const request = { method: 'POST' as const, body: input, timeLimitMs: LONGEST_MS }
    return (await this.#http.send<Verification>(`${this.#path}/book/verification`, request)).body
  }

  /** What shows that an entry is under the last seal. */
  async proof(entry: string): Promise<EntryProof> {
    const path = `${this.#path}/entries/${encodeURIComponent(entry)}/proof`
    return (await this.#http.send<EntryProof>(path, { timeLimitMs: LONGEST_MS })).body
  }

  /** Removes old entries, or counts them. */
  async prune(pruning: PruningInput): Promise<Pruning> {
    const request = { method: 'POST' as const, body: pruning, mayChange: true, timeLimitMs: LONGEST_MS }
    return (await this.#http.send<Pruning>(`${this.#path}/book/pruning`, request)).body
  }

  async sizes(): Promise<BookSizes> {
    return (await this.#http.send<BookSizes>(`${this.#path}/book/sizes`, { timeLimitMs: LONGEST_MS })).body
  }

  /** Receives entries with their rows as text, the oldest first, as it comes. */
  export({ key, ...choice }: EntryChoice, form: RowForm, signal?: AbortSignal): AsyncGenerator<string> {
    const query = { ...choice, ...(key === undefined ? {} : { key: toRecordAddress(key) }) }
    return this.#http.receive(`${this.#path}/entries`, { query }, MEDIA_TYPES[form], signal)
  }

  /** A page of the rows that an entry wrote, as they were before and after. */
  async rows(entry: string, query: { limit?: number; after?: string } = {}): Promise<EntryRows> {
    return (await this.#http.send<EntryRows>(this.#rowsOf(entry), { query })).body
  }

  /** Receives all rows that an entry wrote as text, as it comes. */
  exportRows(entry: string, form: RowForm, signal?: AbortSignal): AsyncGenerator<string> {
    return this.#http.receive(this.#rowsOf(entry), {}, MEDIA_TYPES[form], signal)
  }

  #rowsOf(entry: string): string {
    return `${this.#path}/entries/${encodeURIComponent(entry)}/rows`
  }
}
