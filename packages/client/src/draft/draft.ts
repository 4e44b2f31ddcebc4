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
import { propertyToText } from '../property-text.js'
import { TrackedRecord } from './tracked-record.js'

/** The records of mappings by name, for typed drafts; `ledgerman types` writes such an interface. */
export type DraftRecords = Record<string, object>

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
    const known = this.#records.find(
      (each) => each.mapping === mapping && each.key && isSameKey(each.key, key as RecordValues, info.key),
    )
    if (known) return known.object as Records[Name]
    const { record, guard } = await this.#target.load(mapping, values.map(propertyToText))
    const tracked = new TrackedRecord(mapping, pick(record, info.key), record, guard)
    this.#records.push(tracked)
    return tracked.object as Records[Name]
  }

  /**
   * Takes a record that was loaded elsewhere, as it was loaded there: it is guarded by what was seen then. One that is in the draft
   * already is taken anew, and what was assigned to it stays assigned.
   */
  async adopt<Name extends keyof Records & string>(mapping: Name, loaded: LoadedRecord): Promise<Records[Name]> {
    const { record, guard } = loaded
    const { key: names } = await this.#mapping(mapping)
    const known = this.#records.find(
      (each) => each.mapping === mapping && each.key && isSameKey(each.key, record, names),
    )
    if (known) {
      const assigned = known.changes()
      known.take(record, guard)
      Object.assign(known.object, assigned)
      return known.object as Records[Name]
    }
    const tracked = new TrackedRecord(mapping, pick(record, names), record, guard)
    this.#records.push(tracked)
    return tracked.object as Records[Name]
  }

  /** A new record, to be added with the next commit. Its properties can still be assigned. */
  add<Name extends keyof Records & string>(mapping: Name, values: Partial<Records[Name]>): Records[Name] {
    const tracked = new TrackedRecord(mapping, null, {}, null)
    Object.assign(tracked.object, values)
    this.#records.push(tracked)
    return tracked.object as Records[Name]
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
      if (key === null) return [{ kind: 'add', mapping, key, before: null, after: { ...record.object } }]
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
    const { receipt, sent } = await this.#run('commit', options)
    if (!receipt.replayed) sent.forEach((record, at) => this.#settle(record, receipt.steps[at]))
    else await Promise.all(sent.map((record) => this.#reload(record)))
    return receipt
  }

  /**
   * Applies `change` and commits; where somebody else was faster, every record is loaded again and `change` applied to it again,
   * at most so many times.
   */
  async retry(change: () => void | Promise<void>, tries = TRIES): Promise<Receipt> {
    for (let left = tries; ; left--) {
      await change()
      try {
        return await this.commit()
      } catch (error) {
        if (!isProblem(error, 'record-changed') || left <= 1) throw error
        await Promise.all(this.#records.filter(({ key }) => key !== null).map((record) => this.#reload(record)))
        for (const record of this.#records.filter(({ key }) => key === null)) this.forget(record.object)
      }
    }
  }

  async #run(mode: RunMode, options: { rehearsal?: string; note?: string; idempotencyKey?: string }) {
    const sent = this.#records.filter(
      (record) => record.key === null || record.isRemoved || Object.keys(record.changes()).length > 0,
    )
    if (sent.length === 0)
      throw new LedgermanProblem('request-invalid', 'Nothing is pending: assign to a loaded record first.', {
        where: 'draft',
      })
    const { idempotencyKey, rehearsal, note } = options
    const run = {
      mode,
      steps: sent.map(toStep),
      ...(rehearsal === undefined ? {} : { rehearsal }),
      ...(note === undefined ? {} : { note }),
    }
    return { receipt: await this.#target.run(run, { idempotencyKey }), sent }
  }

  #settle(record: TrackedRecord, step: StepReceipt | undefined): void {
    if (record.isRemoved) return void this.#records.splice(this.#records.indexOf(record), 1)
    const [row] = step?.rows ?? []
    if (!row) return record.take(record.object, record.guard)
    const written = { ...record.object, ...row.after, ...row.alsoChanged?.after }
    // Sensitive values come back as digests only: what was assigned is what they are.
    const shown = Object.fromEntries(
      Object.entries(written).map(([name, value]) => [
        name,
        String(value).startsWith('hmac:') ? record.object[name] : value,
      ]),
    )
    record.key ??= row.key
    record.take(shown, row.guard ?? record.guard)
  }

  async #reload(record: TrackedRecord): Promise<void> {
    const info = await this.#mapping(record.mapping)
    const key = info.key.map((name) => propertyToText((record.key ?? record.object)[name]))
    const loaded = await this.#target.load(record.mapping, key)
    record.take(loaded.record, loaded.guard)
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
    if (!loading) this.#mappings.set(name, (loading = this.#target.mapping(name)))
    return loading
  }
}

function toStep(record: TrackedRecord): StepDefinition {
  const { mapping, key, guard } = record
  if (key === null) return { add: mapping, values: record.object }
  const named = {
    key: Object.fromEntries(Object.entries(key).map(([name, value]) => [name, literal(value)])),
    guard: guard ?? 'any',
  }
  if (record.isRemoved) return { remove: mapping, ...named }
  const values = record.changes()
  return { change: mapping, ...named, values, loaded: pick(record.base, Object.keys(values)) }
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
