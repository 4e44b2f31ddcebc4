import { plainType } from '../values/value-type.js'
import { compileExpression } from '../values/expression/compile.js'
import type { Mapping, Property } from '../mapping/mapping.js'
import { recordScope } from './record-scope.js'
import type { SlotList } from './statement.js'

/**
 * Which rule of the mapping a row breaks, counted from 1; null where it keeps them all. A rule refuses unless it is true:
 * null refuses.
 *
 * @param valueOf the SQL of a property of the row as written.
 */
export function ruleVerdictSql(mapping: Mapping, valueOf: (property: Property) => string, slots: SlotList): string {
  const branches = mapping.rules.map(({ expression, that }, at) => {
    const named = { label: `rules.${at + 1}.that`, source: that, expression }
    const scope = {
      ...recordScope(named, null, slots, { parameters: new Map() }),
      names: () => mapping.byName.keys(),
      find(names: readonly string[]) {
        const property = mapping.byName.get(names.join('.'))
        return property && { sql: valueOf(property), type: property.column.type, sensitive: property.sensitive }
      },
    }
    return `when not coalesce(${compileExpression(expression, that, scope, plainType('boolean'))}, false) then ${at + 1}`
  })
  return `case ${branches.join(' ')} end`
}
