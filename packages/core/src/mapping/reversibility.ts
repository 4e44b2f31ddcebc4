import type { Receipt, StepKind } from '@ledgerman/contract'
import type { Mapping, Property } from './mapping.js'
import { sideWrites } from './side-writes.js'

/**
 * Whether a keyed step can be put back from its entry. Not where only digests stand for what was set, or for the key of what was removed; in part where some do,
 * where a removed row had columns that no property holds, or where a trigger, a rule or a foreign key that cascades may have written
 * elsewhere. What a trigger did to the row itself stands in the images.
 */
export function reversibilityOf(mapping: Mapping, kind: StepKind, set: readonly Property[]): Receipt['reversible'] {
  const { table, properties } = mapping
  const kept = kind === 'remove' ? properties : kind === 'add' ? [] : set
  if (kind === 'remove' && mapping.key.some((property) => property.sensitive)) return 'no'
  if (kept.length > 0 && kept.every((property) => property.sensitive)) return 'no'
  const leavesGaps =
    kept.some((property) => property.sensitive) ||
    (kind === 'remove' && properties.length < table.columns.length) ||
    sideWrites(mapping, kind, set).length > 0
  return leavesGaps ? 'partly' : 'yes'
}
