import { findOrderSql } from '../statement/find-order.js'
import { Aliases, Joins } from '../statement/joins.js'
import { conditionSql } from '../statement/record-scope.js'
import { SlotList } from '../statement/statement.js'
import { equalSql } from '../values/operator-sql.js'
import { comparedSql } from '../values/sql-form.js'
import { HOLE, isComparable, MappingCode, unionOf, unmarked, withHole } from './mapping-code.js'
import type { FindNames } from './names.js'
import { assertParamNames, paramMember, paramValue } from './param-code.js'
import { inComment, inTemplate, memberName, memberOf, quoted } from './text.js'

/** The functions of a mapping's file that find many records: by equal values, and those that the mapping names. */
export class FindCode extends MappingCode {
  find(): string {
    const { mapping, type } = this
    const { list, isPlain } = this.selectList()
    const comparable = mapping.properties.filter(({ column }) => isComparable(column.type.name, column.type.kind))
    const equals = comparable.map(
      ({ name, column }) =>
        `  ${memberName(name)}: [\`${inTemplate(`t.${column.sql}`)}\`, (bind) => \`${withHole(equalSql(`t.${column.sql}`, comparedSql(HOLE, column.type), column.type), '${bind}')}\`],\n`,
    )
    const order =
      mapping.key.length === 0 ? '' : `\norder by ${mapping.key.map(({ column }) => `t.${column.sql}`).join(', ')}`
    const ask = isPlain
      ? `const rows = await s.ask(db, text, values)`
      : `const rows = await s.inTransaction(db, LIMITS, (client) => s.ask(client, text, values))`
    return `const EQUALS: Readonly<Record<${unionOf(comparable)}, readonly [column: string, condition: (bind: string) => string]>> = {
${equals.join('')}}

/**
 * Finds records that have these values; null stands for no value. In key order, at most \`limit\` of them.
 *
 * @throws ValueInvalid
 */
export async function ${this.fn.find}(
  db: s.Db,
  equal: Partial<${type}> = {},
  { limit = 100 }: { limit?: number } = {},
): Promise<s.Loaded<${type}>[]> {
  s.assertAsked(equal)
  const values: (string | null)[] = [String(limit)]
  const conditions = s.namesOf<keyof typeof EQUALS>(equal, EQUALS).map((name) => {
    const [column, condition] = EQUALS[name]
    const value = s.writeValue(WRITE[name], equal[name], name)
    return value === null ? \`\${column} is null\` : condition(\`$\${values.push(value)}\`)
  })
  const text = \`
select ${inTemplate(list)}${inTemplate(this.guard.column)}
from ${inTemplate(mapping.table.sql)} as t
where \${conditions.join(' and ') || 'true'}${inTemplate(order)}
limit $1::integer\`
  ${ask}
  return rows.map(loadedFrom)
}
`
  }

  namedFind({ find, fn, params: paramsType, constant }: FindNames): string {
    const { mapping, type } = this
    const { list, isPlain } = this.selectList()
    const slots = new SlotList()
    const joins = new Joins(mapping, 't', find.links, new Aliases())
    const condition = unmarked(conditionSql(find.where, joins, slots, { parameters: find.types }))
    const order = findOrderSql(mapping, find.order, joins)
    const limit = slots.add({ name: ':limit', type: 'integer', sensitive: false, source: { from: 'limit' } })
    const params = [...find.params.values()]
    const binds = slots.slots.map(({ source }) => {
      if (source.from === 'parameter') return memberOf('p', source.name)
      if (source.from === 'literal') return source.text === null ? 'null' : quoted(source.text)
      return 'String(limit)'
    })
    const ask = `s.ask(${isPlain ? 'db' : 'client'}, ${constant}, values)`
    const isOptional = params.every((param) => param.default !== undefined)
    return `const ${constant} = \`
select ${inTemplate(list)}${inTemplate(this.guard.column)}
from ${inTemplate(mapping.table.sql)} as t${inTemplate(joins.sql)}
where ${inTemplate(condition)}
order by ${inTemplate(order)}
limit ${limit}::integer\`
${params.length > 0 ? `\nexport interface ${paramsType} {\n${params.map(paramMember).join('')}}\n` : ''}
/**
 * Finds the records of which this is true, ${find.order.length > 0 ? `in the order ${inComment(find.definition.order ?? '')}` : 'in key order'}, at most \`limit\` of them:
 *
 *     ${inComment(find.where.source)}
 *
 * @throws ValueInvalid
 */
export async function ${fn}(
  db: s.Db,
${params.length > 0 ? `  params: ${paramsType}${isOptional ? ' = {}' : ''},\n` : ''}  { limit = 100 }: { limit?: number } = {},
): Promise<s.Loaded<${type}>[]> {
${params.length > 0 ? `${assertParamNames(params)}  const p = {\n${params.map(paramValue).join('')}  }\n` : ''}  const values = [${binds.join(', ')}]
  const rows = await ${isPlain ? ask : `s.inTransaction(db, LIMITS, (client) => ${ask})`}
  return rows.map(loadedFrom)
}
`
  }
}
