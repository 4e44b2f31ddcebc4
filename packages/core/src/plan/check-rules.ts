import { Links } from '../mapping/links.js'
import type { Mapping } from '../mapping/mapping.js'
import type { DefinitionFinding } from '../mapping/resolve-mapping.js'
import { buildFind } from '../statement/build-find.js'
import type { Target } from '../target/target.js'
import { checkPrepared } from '../target/check-prepared.js'

/** What of a mapping's rules has types that do not fit, or is no condition: PostgreSQL prepares each as one, and runs none. */
export function checkRules(target: Target, mapping: Mapping): Promise<DefinitionFinding[]> {
  const built = mapping.rules.map(({ expression, that }, at) => {
    const where = { label: `rules.${at + 1}.that`, source: that, expression }
    const shape = { where, order: [], properties: [], guarded: false, parameters: new Map() }
    return { where: where.label, mapping, statement: buildFind(mapping, shape, new Links(), 'start').statement }
  })
  return checkPrepared(target, built)
}
