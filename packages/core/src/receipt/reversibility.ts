import type { Receipt, StepKind } from '@ledgerman/contract'
import type { Mapping, Property } from '../mapping/mapping.js'

/**
 * Whether a keyed step can be put back from its entry. Not where only digests stand for what was set; in part where some do,
 * where a removed row had columns that no property holds, or where a trigger that fires afterwards may have written
 * elsewhere. What a BEFORE trigger did to the row itself stands in the images.
 */
export function reversibilityOf(
  { table, properties }: Mapping,
  kind: StepKind,
  set: readonly Property[],
): Receipt['reversible'] {
  const kept = kind === 'remove' ? properties : kind === 'add' ? [] : set
  if (kept.length > 0 && kept.every((property) => property.sensitive)) return 'no'
  const leavesGaps =
    kept.some((property) => property.sensitive) ||
    (kind === 'remove' && properties.length < table.columns.length) ||
    table.triggers.some((trigger) => trigger.when !== 'before')
  return leavesGaps ? 'partly' : 'yes'
}
