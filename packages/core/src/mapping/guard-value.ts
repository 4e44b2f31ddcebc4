import type { Mapping } from './mapping.js'

// A guard as callers see it says which kind it is, so that one kept from before a mapping changed its guard never fits by chance.
const PREFIX = { version: 'v', rowStamp: 's', values: 'd' } as const

const FORMS = { version: /^v-?\d{1,19}$/, rowStamp: /^s\d{1,10}$/, values: /^d[0-9a-f]{32}$/ } as const

/** Whether what a caller gives may be a guard of this mapping's records, by its form. */
export function isGuardOf({ guard }: Mapping, given: string): boolean {
  return guard.by !== 'none' && FORMS[guard.by].test(given)
}

/** What a caller says of the record's state: one of these guards, or any state at all (`If-Match: *`). */
export type GuardCondition = { guards: readonly string[] } | 'any'

/** What a guard as callers see it begins with; nothing where the mapping has none. */
export function guardPrefix({ guard }: Mapping): string {
  return guard.by === 'none' ? '' : PREFIX[guard.by]
}

/** The guard as it is given out (the ETag without its quotes); null where the mapping has none. */
export function toGuard({ guard }: Mapping, value: string | null): string | null {
  return guard.by === 'none' || value === null ? null : PREFIX[guard.by] + value
}

/**
 * The bind for the guard's slot: an array of the values that could fit. A guard of another kind, or one that no row can
 * have, fits nothing and is left out.
 */
export function guardBind({ guard }: Mapping, condition: GuardCondition): string {
  if (condition === 'any' || guard.by === 'none') return '{}'
  const fits = condition.guards.filter((each) => FORMS[guard.by].test(each) && isInRange(guard, each))
  return `{${fits.map((each) => each.slice(1)).join(',')}}`
}

function isInRange(guard: Mapping['guard'], given: string): boolean {
  if (guard.by !== 'version') return true
  const bits = { int2: 16, int4: 32 }[guard.property.column.type.name] ?? 64
  const value = BigInt(given.slice(1))
  return BigInt.asIntN(bits, value) === value
}
