import type { BrokenValue } from '@ledgerman/contract'
import type { Mapping, Rule } from '../../mapping/mapping.js'
import { shownRecord } from '../../mapping/record-row.js'

/**
 * The values that break a rule: what the properties it names would be, in its order; those of sensitive ones are masked.
 *
 * @param row texts of the record as it would be, in the order of the mapping's properties.
 */
export function brokenValues(mapping: Mapping, rule: Rule, row: readonly (string | null)[]): BrokenValue[] {
  return rule.names.flatMap((name): BrokenValue[] => {
    const property = mapping.byName.get(name)
    if (!property) return []
    if (property.sensitive) return [{ property: name, value: null, masked: true }]
    return [
      { property: name, value: shownRecord([property], [row[mapping.properties.indexOf(property)] ?? null])[name] },
    ]
  })
}
