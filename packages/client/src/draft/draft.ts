import {
  isProblem,
  LedgermanProblem,
  printJson,
  type LoadedRecord,
  type MappingInfo,
  type Receipt,
  type RecordValues,
  type RunMode,
  type StepDefinition,
  type StepReceipt,
} from '@ledgerman/contract'
import type { TargetClient } from '../target-client.js'
import { assertOptions } from '../change-options.js'
import { propertyToText } from '../property-text.js'
import { isSame, TrackedRecord } from './tracked-record.js'

/** The records of mappings by name, for typed drafts; `ledgerman types` writes such an interface. */
export type DraftRecords = Record<string, object>

/** A record that is still to be added: what can never be set once it is there can be, until then. */
export type Added<Values> = { -readonly [Name in keyof Values]: Values[Name] }

export interface PendingChange {
  kind: 'change' | 'add' | 'remove'
  mapping: string
  /** Null for a record that is still to be added. */
  key: RecordValues | null
  /** What was loaded of the properties that changed; null for a record that is added. */
  before: RecordValues | null
  /** What they are to be; null for a record that is removed. */
  after: RecordValues | null
}

/** How often `retry` loads and applies again at most. */
const TRIES = 5

/**
 * Loaded records as plain objects. Assignments are recorded and nothing is sent until `rehearse` or `commit`, which send all of
 * them as one transaction, each record with the guard it was loaded with.
 */
export class Draft<Records extends DraftRecords = DraftRecords> {
  readonly #target: TargetClient
  readonly #records: TrackedRecord[] = []
  readonly #mappings = new Map<string, Promise<MappingInfo>>()
  #isCommitting = false

  constructor(target: TargetClient) {
    this.#target = target
  }

  /**
   * Loads a record by its key, as an object of properties. The same record loaded twice is the same object.
   *
   * @throws LedgermanProblem no-such-record, request-invalid where `key` does not name the mapping's key
   */
  async load<Name extends keyof Records & string>(mapping: Name, key: Partial<Records[Name]>): Promise<Records[Name]> {
    const info = await this.#mapping(mapping)
    const values = info.key.map((name) => (key as RecordValues)[name])
    if (values.some((value) => value === undefined) || Object.keys(key).length !== info.key.length)
      throw new LedgermanProblem('request-invalid', `The key of ${mapping} is ${info.key.join(', ')}.`, {
        where: 'key',
        key: info.key,
      })
    const before = this.#known(info, key as RecordValues)
    if (before) return before.object as Records[Name]
    const { record, guard } = await this.#target.load(mapping, values.map(propertyToText))
    // Somebody may have asked for it at the same time.
    const known = this.#known(info, record)
    if (known) return known.object as Records[Name]
    return this.#track(new TrackedRecord(mapping, pick(record, info.key), record, guard)) as Records[Name]
  }

  /**
   * Takes a record that was loaded elsewhere, as it was loaded there: it is guarded by what was seen then. One that is in the draft
   * already is loaded again, and what was assigned to it stays assigned.
   */
  async adopt<Name extends keyof Records & string>(mapping: Name, loaded: LoadedRecord): Promise<Records[Name]> {
    const { record, guard } = loaded
    const info = await this.#mapping(mapping)
    const known = this.#known(info, record)
    if (!known) return this.#track(new TrackedRecord(mapping, pick(record, info.key), record, guard)) as Records[Name]
    known.settle({}, record, guard)
    return known.object as Records[Name]
  }

  /** A new record, to be added with the next commit. Its properties can still be assigned. */
  add<Name extends keyof Records & string>(mapping: Name, values: Partial<Records[Name]>): Added<Records[Name]> {
    const object = this.#track(new TrackedRecord(mapping, null, {}, null))
    return Object.assign(object, values) as Added<Records[Name]>
  }

  /** Has a loaded record removed with the next commit. */
  remove(record: object): void {
    const tracked = this.#tracked(record)
    if (tracked.key === null) this.forget(record)
    else tracked.isRemoved = true
  }

  /** Lets a record go: what was assigned to it is not sent, and loading it again asks the target. */
  forget(record: object): void {
    this.#records.splice(this.#records.indexOf(this.#tracked(record)), 1)
  }

  /** What the next commit would send. */
  pending(): PendingChange[] {
    return this.#records.flatMap((record): PendingChange[] => {
      const { mapping, key } = record
      if (key === null) return [{ kind: 'add', mapping, key, before: null, after: record.changes() }]
      if (record.isRemoved) return [{ kind: 'remove', mapping, key, before: record.base, after: null }]
      const after = record.changes()
      const names = Object.keys(after)
      return names.length === 0 ? [] : [{ kind: 'change', mapping, key, before: pick(record.base, names), after }]
    })
  }

  /** Tries all pending changes and keeps none. The receipt's `rehearsal` is a token for committing exactly that. */
  async rehearse(): Promise<Receipt> {
    return (await this.#run('rehearse', {})).receipt
  }

  /**
   * Commits all pending changes as one, or none. Afterwards the objects carry their new values.
   *
   * @throws LedgermanProblem record-changed with `yours`, `current` and `loaded` where somebody was faster
   */
  async commit(options: { rehearsal?: string; note?: string; idempotencyKey?: string } = {}): Promise<Receipt> {
    assertOptions(options, ['rehearsal', 'note', 'idempotencyKey'])
    if (this.#isCommitting)
      throw new LedgermanProblem('request-invalid', 'A commit of this draft is under way; wait for it first.', {
        where: 'draft',
      })
    this.#isCommitting = true
    try {
      const { receipt, sent } = await this.#run('commit', options)
      await Promise.all(sent.map((each, at) => this.#settle(each, receipt.steps[at], receipt.replayed)))
      return receipt
    } finally {
      this.#isCommitting = false
    }
  }

  /**
   * Applies `change` and commits; where somebody else was faster, every record is loaded again and `change` applied to it again, at most
   * so many times. What was pending before, and `change` leaves alone, stays pending.
   *
   * @throws LedgermanProblem record-changed after the last try, or where somebody changed what was pending before
   */
  async retry(change: () => void | Promise<void>, tries = TRIES): Promise<Receipt> {
    const known = new Set(this.#records)
    const earlier = [...known].map((record) => ({ record, changes: record.changes() }))
    for (let left = tries; ; left--) {
      await change()
      for (const each of earlier) each.changes = keptBy(each.record, each.changes)
      try {
        return await this.commit()
      } catch (error) {
        if (!isProblem(error, 'record-changed') || left <= 1) throw error
        // What `change` adds it adds again.
        for (const record of this.#records.filter((each) => each.key === null && !known.has(each)))
          this.forget(record.object)
        const bases = new Map(this.#records.map((record) => [record, record.base]))
        await Promise.all(this.#records.filter(({ key }) => key !== null).map((record) => this.#reload(record)))
        for (const { record, changes } of earlier) {
          Object.assign(record.object, changes)
          const names = Object.keys(changes)
          if (!isSame(pick(record.base, names), pick(bases.get(record) ?? {}, names))) throw error
        }
      }
    }
  }

  async #run(mode: RunMode, options: { rehearsal?: string; note?: string; idempotencyKey?: string }) {
    const sent = this.#records
      .map((record) => ({ record, changes: record.isRemoved ? {} : record.changes() }))
      .filter(({ record, changes }) => record.key === null || record.isRemoved || Object.keys(changes).length > 0)
    if (sent.length === 0)
      throw new LedgermanProblem('request-invalid', 'Nothing is pending: assign to a loaded record first.', {
        where: 'draft',
      })
    // Asked for before anything is sent: what is committed is told, whatever can be asked for afterwards.
    await Promise.all(sent.map(({ record }) => this.#mapping(record.mapping)))
    const { idempotencyKey, rehearsal, note } = options
    const run = {
      mode,
      steps: sent.map(toStep),
      ...(rehearsal === undefined ? {} : { rehearsal }),
      ...(note === undefined ? {} : { note }),
    }
    return { receipt: await this.#target.run(run, { idempotencyKey }), sent }
  }

  /**
   * Brings a record up to date with what became of it. A receipt of an earlier time says only which record it was: where it cannot be loaded
   * either, the object has what was sent.
   */
  async #settle({ record, changes }: Sent, step: StepReceipt | undefined, isReplayed: boolean): Promise<void> {
    if (record.isRemoved) return void this.#records.splice(this.#records.indexOf(record), 1)
    const [row] = step?.rows ?? []
    if (row) record.key ??= row.key
    const { key, properties } = await this.#mapping(record.mapping)
    const sensitive = properties?.filter((each) => each.sensitive).map(({ name }) => name) ?? []
    const written = { ...row?.after, ...row?.alsoChanged?.after }
    // Of sensitive values only digests come back: what was assigned is what they are.
    for (const name of sensitive) delete written[name]
    // It may have been given another key.
    record.key = pick({ ...record.key, ...changes, ...written }, key)
    if (isReplayed) {
      const isLoaded = await this.#reload(record, changes).then(
        () => true,
        () => false,
      )
      if (isLoaded) return
    }
    record.settle(changes, written, row?.guard ?? record.guard)
  }

  /** Loads a record again, over everything that was assigned to it but not sent. */
  async #reload(record: TrackedRecord, sent?: RecordValues): Promise<void> {
    const info = await this.#mapping(record.mapping)
    const key = info.key.map((name) => propertyToText((record.key ?? record.object)[name]))
    const loaded = await this.#target.load(record.mapping, key)
    if (sent) record.settle(sent, loaded.record, loaded.guard)
    else record.take(loaded.record, loaded.guard)
  }

  #known({ name, key }: MappingInfo, values: RecordValues): TrackedRecord | undefined {
    return this.#records.find((each) => each.mapping === name && each.key && isSameKey(each.key, values, key))
  }

  #track(record: TrackedRecord): RecordValues {
    this.#records.push(record)
    return record.object
  }

  #tracked(object: object): TrackedRecord {
    const found = this.#records.find((record) => record.object === object)
    if (found) return found
    throw new LedgermanProblem('request-invalid', 'This object is no record of the draft; load it, or add it, first.', {
      where: 'draft',
    })
  }

  #mapping(name: string): Promise<MappingInfo> {
    let loading = this.#mappings.get(name)
    if (!loading) {
      this.#mappings.set(name, (loading = this.#target.mapping(name)))
      // What could not be had once is asked for again.
      loading.catch(() => this.#mappings.delete(name))
    }
    return loading
  }
}

/** Of a record's earlier changes those that it still has. */
function keptBy(record: TrackedRecord, earlier: RecordValues): RecordValues {
  const now = record.changes()
  return Object.fromEntries(Object.entries(earlier).filter(([name, value]) => isSame(value, now[name])))
}

/** A record and the changes of it that were sent. */
interface Sent {
  record: TrackedRecord
  changes: RecordValues
}

function toStep({ record, changes: values }: Sent): StepDefinition {
  const { mapping, key, guard } = record
  if (key === null) return { add: mapping, ...asLiterals(values) }
  const named = {
    key: Object.fromEntries(Object.entries(key).map(([name, value]) => [name, literal(value)])),
    guard: guard ?? 'any',
  }
  if (record.isRemoved) return { remove: mapping, ...named }
  return { change: mapping, ...named, ...asLiterals(values), loaded: pick(record.base, Object.keys(values)) }
}

/** Values as a step says them: a text that could be taken for a parameter's name is written as an expression. */
function asLiterals(values: RecordValues): { values: RecordValues; compute?: Record<string, string> } {
  const [plain, mistakable] = [{} as RecordValues, {} as Record<string, string>]
  for (const [name, value] of Object.entries(values)) {
    if (typeof value === 'string' && value.startsWith(':')) mistakable[name] = literal(value)
    else plain[name] = value
  }
  return Object.keys(mistakable).length === 0 ? { values: plain } : { values: plain, compute: mistakable }
}

/** A key value as an expression: a literal, never anything that is read otherwise. */
function literal(value: unknown): string {
  if (typeof value === 'string') return `'${value.replaceAll("'", "''")}'`
  return printJson(value)
}

function pick(values: RecordValues, names: readonly string[]): RecordValues {
  return Object.fromEntries(names.map((name) => [name, values[name]]))
}

function isSameKey(one: RecordValues, other: RecordValues, names: readonly string[]): boolean {
  return names.every((name) => propertyToText(one[name]) === propertyToText(other[name]))
}
