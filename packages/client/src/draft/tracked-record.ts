import { LedgermanProblem, RawJson, type RecordValues } from '@ledgerman/contract'
import { toPlain } from '../plain-value.js'

/** A loaded record as an object: plain assignments to it, nested ones too, are noticed when asked for. */
export class TrackedRecord {
  /** What callers work with. */
  readonly object: RecordValues
  /** The values as they were loaded, or committed last. */
  base: RecordValues
  guard: string | null
  isRemoved = false

  constructor(
    readonly mapping: string,
    /** Null for one that is still to be added. */
    public key: RecordValues | null,
    values: RecordValues,
    guard: string | null,
  ) {
    this.object = copy(values) as RecordValues
    this.base = copy(values) as RecordValues
    this.guard = guard
  }

  /**
   * The properties that differ from what was loaded.
   *
   * @throws LedgermanProblem value-invalid for a property that was deleted, or was assigned what JSON cannot carry
   */
  changes(): RecordValues {
    const deleted = Object.keys(this.base).find((name) => !(name in this.object))
    if (deleted !== undefined)
      throw new LedgermanProblem('value-invalid', `${deleted} was deleted from the object. Assign null to empty it.`, {
        where: deleted,
      })
    const values = Object.entries(this.object).map(([name, value]) => [name, toPlain(name, value)] as const)
    return Object.fromEntries(values.filter(([name, value]) => !isSame(value, this.base[name])))
  }

  /** Takes values as the ones that are there now; what was assigned and not sent is overwritten. */
  take(values: RecordValues, guard: string | null): void {
    Object.assign(this.object, copy(values))
    this.base = { ...this.base, ...(copy(values) as RecordValues) }
    this.guard = guard
  }

  /**
   * Takes values as the ones that are there now, and those that were sent as arrived. What was assigned since they were sent stays
   * assigned.
   *
   * @param sent the changes as they were sent
   */
  settle(sent: RecordValues, values: RecordValues, guard: string | null): void {
    const since = Object.entries(this.changes()).filter(([name, value]) => !(name in sent && isSame(value, sent[name])))
    this.take({ ...sent, ...values }, guard)
    Object.assign(this.object, Object.fromEntries(since))
  }
}

/** A deep copy; exact numbers never change, so they are shared. */
function copy(value: unknown): unknown {
  if (Array.isArray(value)) return value.map(copy)
  if (value === null || typeof value !== 'object' || value instanceof RawJson) return value
  return Object.fromEntries(Object.entries(value).map(([name, each]) => [name, copy(each)]))
}

/** Whether two values are the same in JSON, digit by digit. */
export function isSame(one: unknown, other: unknown): boolean {
  if (one instanceof RawJson || other instanceof RawJson)
    return one instanceof RawJson && other instanceof RawJson && one.text === other.text
  if (Array.isArray(one) || Array.isArray(other))
    return (
      Array.isArray(one) &&
      Array.isArray(other) &&
      one.length === other.length &&
      one.every((each, at) => isSame(each, other[at]))
    )
  if (one === null || other === null || typeof one !== 'object' || typeof other !== 'object')
    return Object.is(one, other)
  const [a, b] = [one as RecordValues, other as RecordValues]
  const names = Object.keys(a)
  return names.length === Object.keys(b).length && names.every((name) => name in b && isSame(a[name], b[name]))
}
