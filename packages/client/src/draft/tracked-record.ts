import { RawJson, type RecordValues } from '@ledgerman/contract'

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

  /** The properties that differ from what was loaded. */
  changes(): RecordValues {
    const changed = Object.entries(this.object).filter(([name, value]) => !isSame(value, this.base[name]))
    return Object.fromEntries(changed.map(([name, value]) => [name, copy(value)]))
  }

  /** Takes values as the ones that are there now; what was assigned meanwhile is overwritten. */
  take(values: RecordValues, guard: string | null): void {
    Object.assign(this.object, copy(values))
    this.base = { ...this.base, ...(copy(values) as RecordValues) }
    this.guard = guard
  }

  /** Undoes every assignment. */
  reset(): void {
    for (const name of Object.keys(this.object)) if (!(name in this.base)) delete this.object[name]
    Object.assign(this.object, copy(this.base))
    this.isRemoved = false
  }
}

/** A deep copy; exact numbers never change, so they are shared. */
function copy(value: unknown): unknown {
  if (Array.isArray(value)) return value.map(copy)
  if (value === null || typeof value !== 'object' || value instanceof RawJson) return value
  return Object.fromEntries(Object.entries(value).map(([name, each]) => [name, copy(each)]))
}

function isSame(one: unknown, other: unknown): boolean {
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
