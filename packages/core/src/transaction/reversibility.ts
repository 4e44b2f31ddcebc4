import type { Receipt } from '@ledgerman/contract'
import type { Mapping, Property } from '../mapping/mapping.js'

/**
 * Whether a keyed change can be put back from its entry. Not where only digests stand for what was set; in part where some
 * do, or where a trigger that fires afterwards may have written elsewhere. What a BEFORE trigger did to the row itself
 * stands in the images.
 */
export function reversibilityOf({ table }: Mapping, set: readonly Property[]): Receipt['reversible'] {
  if (set.length > 0 && set.every((property) => property.sensitive)) return 'no'
  const leavesGaps =
    set.some((property) => property.sensitive) || table.triggers.some((trigger) => trigger.when !== 'before')
  return leavesGaps ? 'partly' : 'yes'
}
