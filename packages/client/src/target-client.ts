import {
  LedgermanProblem,
  isSwallowed,
  toRecordAddress,
  type BookPrepared,
  type ChangedRecord,
  type DefinitionsInput,
  type DefinitionsPublished,
  type DerivedMapping,
  type EntryInfo,
  type EntryList,
  type Explained,
  type FindBody,
  type FoundRecords,
  type Job,
  type JobFileQuery,
  type JobInput,
  type LoadedRecord,
  type MappingInfo,
  type MappingSummary,
  type Receipt,
  type RecordAsOf,
  type RecordHistory,
  type RecordValues,
  type RemovedRecord,
  type ReversalInput,
  type ReversalsInput,
  type RunInput,
  type RunState,
  type TableInfo,
  type TableSummary,
  type TransactionInfo,
  type TransactionSummary,
  type WaitingSession,
} from '@ledgerman/contract'
import { BookClient, type EntryChoice } from './book-client.js'
import {
  ADD_OPTIONS,
  assertOptions,
  CHANGE_OPTIONS,
  reapplied,
  WRITE_OPTIONS,
  written,
  type ChangeOptions,
  type OnWait,
} from './change-options.js'
import { keyTexts } from './key-texts.js'
import type { HttpClient, Request, StreamedBody } from './http-client.js'
import { MEDIA_TYPES, type RowForm } from './media-types.js'
import { TargetTools } from './target-tools.js'

/** A change of many records as it is asked for; what is left out has its default. */
export type JobRequest = Omit<JobInput, 'images'> & Partial<Pick<JobInput, 'images'>>

/** How long a reversal may take, in milliseconds. */
const REVERSAL_LIMIT_MS = 16 * 60_000

/** How long a file may take to be sent, in milliseconds. */
const UPLOAD_LIMIT_MS = 60 * 60_000

/** What to find: everything the interface's find takes but what decides the form of the answer. */
export type Find = Omit<FindBody, 'expect' | 'explain'>

/** The calls of one target: its definitions, records, runs, jobs and entries. */
export class TargetClient extends TargetTools {
  readonly #http: HttpClient
  readonly #path: string
  readonly book: BookClient

  constructor(
    http: HttpClient,
    readonly name: string,
  ) {
    const path = `/v1/targets/${encodeURIComponent(name)}`
    super(http, path)
    this.#http = http
    this.#path = path
    this.book = new BookClient(http, path)
  }

  async prepareBook(): Promise<BookPrepared> {
    return (await this.#http.send<BookPrepared>(`${this.#path}/book`, { method: 'POST' })).body
  }

  async tables(): Promise<TableSummary[]> {
    return (await this.#http.send<{ tables: TableSummary[] }>(`${this.#path}/tables`)).body.tables
  }

  async table(schema: string, name: string): Promise<TableInfo> {
    return (await this.#http.send<TableInfo>(this.#tablePath(schema, name))).body
  }

  async deriveMapping(schema: string, name: string): Promise<DerivedMapping> {
    return (await this.#http.send<DerivedMapping>(`${this.#tablePath(schema, name)}/mapping`)).body
  }

  async mappings(): Promise<MappingSummary[]> {
    return (await this.#http.send<{ mappings: MappingSummary[] }>(`${this.#path}/mappings`)).body.mappings
  }

  async mapping(name: string): Promise<MappingInfo> {
    return (await this.#http.send<MappingInfo>(this.#mappingPath(name))).body
  }

  /** Publishes a mapping from its YAML text. */
  async publishMapping(name: string, source: string): Promise<MappingInfo> {
    return (
      await this.#http.send<MappingInfo>(this.#mappingPath(name), {
        method: 'PUT',
        body: source,
        contentType: 'application/yaml',
      })
    ).body
  }

  /** A revision of a mapping. */
  async mappingRevision(name: string, revision: number): Promise<MappingInfo> {
    return (await this.#http.send<MappingInfo>(`${this.#mappingPath(name)}/revisions/${revision}`)).body
  }

  async transactions(): Promise<TransactionSummary[]> {
    const { body } = await this.#http.send<{ transactions: TransactionSummary[] }>(`${this.#path}/transactions`)
    return body.transactions
  }

  async transaction(name: string): Promise<TransactionInfo> {
    return (await this.#http.send<TransactionInfo>(`${this.#path}/transactions/${encodeURIComponent(name)}`)).body
  }

  /** A revision of a transaction. */
  async transactionRevision(name: string, revision: number): Promise<TransactionInfo> {
    const path = `${this.#path}/transactions/${encodeURIComponent(name)}/revisions/${revision}`
    return (await this.#http.send<TransactionInfo>(path)).body
  }

  /** Runs a transaction, or steps that are sent with the run. An idempotency key lets a commit be sent again safely. */
  async run(
    run: RunInput,
    options: { idempotencyKey?: string | undefined; onWait?: OnWait | undefined } = {},
  ): Promise<Receipt> {
    assertOptions(options, ['idempotencyKey', 'onWait'])
    const { idempotencyKey, onWait } = options
    const headers: Record<string, string> = idempotencyKey === undefined ? {} : { 'idempotency-key': idempotencyKey }
    const request = { method: 'POST' as const, body: run, headers }
    return this.#write<Receipt>(`${this.#path}/runs`, request, onWait)
  }

  /** Begins a change or removal of all records that match a condition. */
  async beginJob(job: JobRequest, options: { idempotencyKey?: string | undefined } = {}): Promise<Job> {
    assertOptions(options, ['idempotencyKey'])
    const { idempotencyKey } = options
    const headers: Record<string, string> = idempotencyKey === undefined ? {} : { 'idempotency-key': idempotencyKey }
    return (await this.#http.send<Job>(`${this.#path}/jobs`, { method: 'POST', body: job, headers })).body
  }

  /** Begins to apply a file of corrections, which is sent as it comes. */
  async beginFileJob(file: StreamedBody, form: RowForm, asked: JobFileQuery): Promise<Job> {
    const request = {
      method: 'POST' as const,
      stream: file,
      contentType: MEDIA_TYPES[form],
      query: asked,
      timeLimitMs: UPLOAD_LIMIT_MS,
    }
    return (await this.#http.send<Job>(`${this.#path}/jobs`, request)).body
  }

  /** A run that may still be going on. @throws LedgermanProblem not-found */
  async runState(id: string): Promise<RunState> {
    return (await this.#http.send<RunState>(`${this.#path}/runs/${encodeURIComponent(id)}`)).body
  }

  /** Publishes definitions from the texts of their files, all or none; with `check` only says what would become of them. */
  publish(
    definitions: DefinitionsInput['definitions'],
    { check = false }: { check?: boolean } = {},
  ): Promise<DefinitionsPublished> {
    return this.#sendDefinitions({ definitions }, check)
  }

  /**
   * Withdraws published definitions, all or none; with `check` only says whether it would. Their revisions stay readable.
   *
   * @throws LedgermanProblem definition-in-use where others use them that stay; record-changed where somebody published since the revision named
   */
  withdraw(
    definitions: NonNullable<DefinitionsInput['withdraw']>,
    { check = false }: { check?: boolean } = {},
  ): Promise<DefinitionsPublished> {
    return this.#sendDefinitions({ definitions: [], withdraw: definitions }, check)
  }

  async #sendDefinitions(body: DefinitionsInput, check: boolean): Promise<DefinitionsPublished> {
    const request = { method: 'POST' as const, body, query: { check } }
    return (await this.#http.send<DefinitionsPublished>(`${this.#path}/definitions`, request)).body
  }

  /** Finds records, a page at a time. */
  async find(mapping: string, find: Find = {}, signal?: AbortSignal): Promise<FoundRecords> {
    return (await this.#http.send<FoundRecords>(this.#findPath(mapping), { method: 'POST', body: find, signal })).body
  }

  /** Finds the one record that fits. @throws LedgermanProblem no-such-record, record-ambiguous */
  async findOne(mapping: string, find: Find): Promise<LoadedRecord> {
    const body = { ...find, expect: 'one' }
    const { record, guard } = (await this.#http.send<LoadedRecord>(this.#findPath(mapping), { method: 'POST', body }))
      .body
    return { record, guard }
  }

  /** Shows how records would be found. */
  async explainFind(mapping: string, find: Find): Promise<Explained> {
    const body = { ...find, explain: true }
    return (await this.#http.send<Explained>(this.#findPath(mapping), { method: 'POST', body })).body
  }

  /** Receives all records that fit as text, as it comes. */
  export(mapping: string, find: Find, form: RowForm, signal?: AbortSignal): AsyncGenerator<string> {
    return this.#http.receive(this.#findPath(mapping), { method: 'POST', body: find }, MEDIA_TYPES[form], signal)
  }

  /** Loads one record by its key values in key order, in the text form an address has; `by` names another unique key. */
  async load(mapping: string, key: readonly string[], by?: string): Promise<LoadedRecord> {
    const { path, query } = await this.#recordPlace(mapping, key, by)
    return (await this.#http.send<LoadedRecord>(path, { query: { ...query, by } })).body
  }

  /** A record as it was at a moment (RFC 3339), out of the book. */
  async loadAsOf(mapping: string, key: readonly string[], asOf: string): Promise<RecordAsOf> {
    const { path, query } = await this.#recordPlace(mapping, key)
    return (await this.#http.send<RecordAsOf>(path, { query: { ...query, 'as-of': asOf } })).body
  }

  /** What became of a record, the newest first. */
  async history(
    mapping: string,
    key: readonly string[],
    filter: {
      property?: string | undefined
      from?: string | undefined
      until?: string | undefined
      after?: string | undefined
      limit?: number
    } = {},
  ): Promise<RecordHistory> {
    const { path, query } = await this.#recordPlace(mapping, key)
    return (await this.#http.send<RecordHistory>(`${path}/history`, { query: { ...query, ...filter } })).body
  }

  /** Who waits for one record, and for whom. */
  async rowWaits(mapping: string, key: readonly string[]): Promise<WaitingSession[]> {
    const { path, query } = await this.#recordPlace(mapping, key)
    return (await this.#http.send<{ sessions: WaitingSession[] }>(`${path}/waits`, { query })).body.sessions
  }

  /** Shows how a record would be loaded. */
  async explainLoad(mapping: string, key: readonly string[], by?: string): Promise<Explained> {
    const { path, query } = await this.#recordPlace(mapping, key, by)
    return (await this.#http.send<Explained>(path, { query: { ...query, by, explain: true } })).body
  }

  /** Changes the named properties of one record. */
  async change(
    mapping: string,
    key: readonly string[],
    values: RecordValues,
    options: ChangeOptions = {},
  ): Promise<ChangedRecord> {
    assertOptions(options, CHANGE_OPTIONS)
    const { loaded, merge = false, ifChanged = 'refuse', onWait } = options
    const { path, query } = await this.#recordPlace(mapping, key)
    if (merge && loaded !== undefined)
      throw new LedgermanProblem(
        'request-invalid',
        'loaded: a merge patch cannot say what was loaded. Leave one out.',
        {
          where: 'loaded',
        },
      )
    const content = merge
      ? { body: values, contentType: 'application/merge-patch+json' }
      : { body: { set: values, ...(loaded === undefined ? {} : { loaded }) } }
    const request = { method: 'PATCH' as const, ...content, ...written(options, query) }
    try {
      return await this.#write<ChangedRecord>(path, request, onWait)
    } catch (error) {
      const again = ifChanged === 'reapply' ? reapplied(error) : undefined
      if (!again) throw error
      const { ifChanged: _, ...rest } = options
      return this.change(mapping, key, values, { ...rest, ...again })
    }
  }

  /** Replaces every writable property of one record. */
  async replace(
    mapping: string,
    key: readonly string[],
    values: RecordValues,
    options: Omit<ChangeOptions, 'loaded' | 'merge' | 'ifChanged'> = {},
  ): Promise<ChangedRecord> {
    assertOptions(options, WRITE_OPTIONS)
    const { path, query } = await this.#recordPlace(mapping, key)
    const request = { method: 'PUT' as const, body: values, ...written(options, query) }
    return this.#write<ChangedRecord>(path, request, options.onWait)
  }

  /** Adds one record. Properties that are not named get their columns' defaults. */
  async add(
    mapping: string,
    values: RecordValues,
    options: Pick<ChangeOptions, 'mode' | 'rehearsal' | 'note' | 'idempotencyKey' | 'onWait'> = {},
  ): Promise<ChangedRecord> {
    assertOptions(options, ADD_OPTIONS)
    const request = { method: 'POST' as const, body: values, ...written(options, {}) }
    return this.#write<ChangedRecord>(`${this.#mappingPath(mapping)}/records`, request, options.onWait)
  }

  /** Removes one record. */
  async remove(
    mapping: string,
    key: readonly string[],
    options: Omit<ChangeOptions, 'loaded' | 'merge' | 'ifChanged'> = {},
  ): Promise<RemovedRecord> {
    assertOptions(options, WRITE_OPTIONS)
    const { path, query } = await this.#recordPlace(mapping, key)
    const request = { method: 'DELETE' as const, ...written(options, query) }
    return this.#write<RemovedRecord>(path, request, options.onWait)
  }

  async entries(
    filter: EntryChoice & { limit?: number | undefined; after?: string | undefined } = {},
  ): Promise<EntryList> {
    const { key, ...query } = filter
    return (
      await this.#http.send<EntryList>(`${this.#path}/entries`, {
        query: { ...query, key: key && toRecordAddress(key) },
      })
    ).body
  }

  /** Puts an entry back; one of many rows is a job. */
  async reverse(id: string, reversal: ReversalInput): Promise<Receipt | Job> {
    const request = { method: 'POST' as const, body: reversal, mayChange: true, timeLimitMs: REVERSAL_LIMIT_MS }
    return (await this.#http.send<Receipt | Job>(`${this.#path}/entries/${encodeURIComponent(id)}/reversal`, request))
      .body
  }

  /** Puts back all since an entry or a moment, the newest first; many rows are a job. */
  async reverseSince(reversals: ReversalsInput): Promise<Receipt | Job> {
    const request = { method: 'POST' as const, body: reversals, mayChange: true, timeLimitMs: REVERSAL_LIMIT_MS }
    return (await this.#http.send<Receipt | Job>(`${this.#path}/reversals`, request)).body
  }

  async entry(id: string): Promise<EntryInfo> {
    return (await this.#http.send<EntryInfo>(`${this.#path}/entries/${encodeURIComponent(id)}`)).body
  }

  /** Sends a call that may come to wait for a lock, and tells of it where somebody wants to know. */
  async #write<T>(path: string, request: Request, onWait: OnWait | undefined): Promise<T> {
    const asked = { ...request, mayChange: true }
    return onWait ? this.#http.follow<T>(path, asked, { onWait }) : (await this.#http.send<T>(path, asked)).body
  }

  #tablePath(schema: string, name: string): string {
    return `${this.#path}/tables/${encodeURIComponent(schema)}/${encodeURIComponent(name)}`
  }

  #mappingPath(name: string): string {
    return `${this.#path}/mappings/${encodeURIComponent(name)}`
  }

  #findPath(mapping: string): string {
    return `${this.#mappingPath(mapping)}/records/find`
  }

  /** A key that a path would swallow (empty, `.`, `..`) goes into the query, by name; the sign for that is written %2D where it is a key. */
  async #recordPlace(
    mapping: string,
    key: readonly string[],
    by?: string,
  ): Promise<{ path: string; query: Record<string, string> }> {
    const texts = keyTexts(key)
    const address = toRecordAddress(texts)
    const records = `${this.#mappingPath(mapping)}/records`
    if (!isSwallowed(address)) return { path: `${records}/${address === '-' ? '%2D' : address}`, query: {} }
    const names = by?.split(',') ?? (await this.mapping(mapping)).key
    return {
      path: `${records}/-`,
      query: Object.fromEntries(names.map((name, at) => [`key.${name}`, texts[at] ?? ''])),
    }
  }
}
