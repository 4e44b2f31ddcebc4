import { compileExpression } from '../expression/compile.js'
import type { Mapping, Property } from '../mapping/mapping.js'
import type { SlotList } from './statement.js'

/**
 * Which rule of the mapping a row breaks, counted from 1; null where it keeps them all. A rule refuses unless it is true:
 * null refuses.
 *
 * @param valueOf the SQL of a property of the row as written.
 */
export function ruleVerdictSql(mapping: Mapping, valueOf: (property: Property) => string, slots: SlotList): string {
  let literals = 0
  const branches = mapping.rules.map(({ expression, that }, at) => {
    const condition = compileExpression(expression, that, {
      names: mapping.byName.keys(),
      find(name) {
        const property = mapping.byName.get(name)
        return property && { sql: valueOf(property), type: property.column.type }
      },
      bind: (text, type) =>
        slots.add({
          name: `:rule ${at + 1}`,
          type,
          sensitive: false,
          source: { from: 'literal', at: literals++, text },
        }),
    })
    return `when not coalesce(${condition}, false) then ${at + 1}`
  })
  return `case ${branches.join(' ')} end`
}
