import { plainType, type ValueType } from '../../values/value-type.js'
import { LedgermanProblem, suggestName } from '@ledgerman/contract'
import type { Expression } from '../../values/expression/expression.js'
import { expressionProblem } from '../../values/expression/expression-problem.js'
import { parseExpression } from '../../values/expression/parse.js'
import { TypeReader } from '../../values/expression/value-type.js'
import type { Mapping } from '../../mapping/mapping.js'
import { valueSql } from '../../statement/record-scope.js'
import { bindValues, SlotList, toStatement, type Statement } from '../../statement/statement.js'
import type { Queryable } from '../../sessions/queryable.js'

/** An expression over aggregates of whole mappings: `sum(programme.hoursLeft)`, or `min(programme.hoursLeft) >= 0`. */
export interface Invariant {
  source: string
  /** Whether it says what has to be true, rather than what has to stay the same. */
  isCondition: boolean
  /** Gives one row with a column for each aggregate. */
  aggregatesSql: string
  statement: Statement
}

const AGGREGATE =
  /\b(sum|count|min|max|avg)\s*\(\s*([\p{L}_][\p{L}\p{N}_]*)(?:\s*\.\s*([\p{L}_][\p{L}\p{N}_]*))?\s*\)/giu
const CONDITIONS: readonly Expression['kind'][] = ['is', 'in', 'between', 'distinct', 'quantified']

/** @throws LedgermanProblem expression-invalid */
export async function readInvariant(
  source: string,
  findMapping: (name: string) => Promise<Mapping>,
): Promise<Invariant> {
  const aggregates: { sql: string; type: ValueType }[] = []
  // As long as what it stands for, so that places in what is told are places in what was written.
  let written = ''
  let from = 0
  for (const found of source.matchAll(AGGREGATE)) {
    const [text, name = '', subject = '', property] = found
    aggregates.push(aggregate(source, found.index, name.toLowerCase(), await findMapping(subject), property))
    written += source.slice(from, found.index) + `:a${aggregates.length}`.padEnd(text.length)
    from = found.index + text.length
  }
  written += source.slice(from)
  if (aggregates.length === 0)
    throw expressionProblem(source, 0, 'Expected an aggregate such as sum(programme.hoursLeft) or count(block)')
  const expression = parseExpression(written)
  const types = new Map(aggregates.map(({ type }, at) => [`a${at + 1}`, type as ValueType | undefined]))
  const type = new TypeReader((node) => (node.kind === 'parameter' ? types.get(node.name) : undefined)).typeOf(
    expression,
  )
  const isCondition = type?.sql === 'boolean' || CONDITIONS.includes(expression.kind)
  const slots = new SlotList()
  const wanted = isCondition ? plainType('boolean') : (type ?? plainType('numeric'))
  const sql = valueSql({ label: 'keep', source: written, expression }, null, slots, { parameters: types }, wanted)
  return {
    source,
    isCondition,
    aggregatesSql: `select ${aggregates.map(({ sql: each }) => each).join(', ')}`,
    statement: toStatement(`select (${sql})::text`, slots),
  }
}

/** Its value now, in text form; null where it has none. */
export async function valueOf(session: Queryable, { aggregatesSql, statement }: Invariant): Promise<string | null> {
  const [values = []] = (await session.query(aggregatesSql)).rows
  const binds = bindValues(statement, (source) =>
    source.from === 'parameter'
      ? (values[Number(source.name.slice(1)) - 1] ?? null)
      : source.from === 'literal'
        ? source.text
        : null,
  )
  return (await session.query(statement.text, binds)).rows[0]?.[0] ?? null
}

/** Whether it holds, given what it was before the race. */
export function holds({ isCondition }: Invariant, before: string | null, now: string | null): boolean {
  return isCondition ? now === 'true' : now === before
}

function aggregate(
  source: string,
  at: number,
  name: string,
  mapping: Mapping,
  propertyName: string | undefined,
): { sql: string; type: ValueType } {
  const from = `from ${mapping.table.sql} as t`
  if (propertyName === undefined) {
    if (name !== 'count')
      throw expressionProblem(
        source,
        at,
        `${name} needs a property, such as ${name}(${mapping.name}.${mapping.properties[0]?.name})`,
      )
    return { sql: `(select count(*)::text ${from})`, type: plainType('bigint') }
  }
  const property = mapping.byName.get(propertyName)
  if (!property)
    throw expressionProblem(
      source,
      at,
      `${propertyName} is not a property of ${mapping.name}. ${suggestName(propertyName, mapping.byName.keys())}`,
    )
  const own = property.column.type.comparable
  const type = name === 'count' ? 'bigint' : name === 'sum' || name === 'avg' ? 'numeric' : own
  if (property.sensitive)
    throw new LedgermanProblem(
      'expression-invalid',
      `${propertyName} is sensitive: it is replaced where drills are run.`,
      {
        where: 'keep',
      },
    )
  return { sql: `(select ${name}(t.${property.column.sql})::text ${from})`, type: plainType(type) }
}
