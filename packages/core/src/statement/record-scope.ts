import { plainType, type ValueType } from '../values/value-type.js'
import { isProblem, suggestName } from '@ledgerman/contract'
import { type BoundValue, compileExpression, type NamedValue, type Scope } from '../values/expression/compile.js'
import { expressionProblem } from '../values/expression/expression-problem.js'
import type { Expression } from '../values/expression/expression.js'
import { toManyLinks } from '../mapping/links.js'
import { Astray, Joins, linkConditionSql } from './joins.js'
import { markPlace, type SlotList } from './statement.js'

/** An expression as it was written, read, and where it was written. */
export interface NamedExpression {
  /** What it is called in problems, such as `where` or `steps.3.compute.hoursLeft`. */
  label: string
  source: string
  expression: Expression
}

/** What an expression over a record may name beside the record's own properties and links. */
export interface Surroundings {
  /** The declared parameters; undefined where any may be named. */
  parameters?: ReadonlyMap<string, ValueType | undefined> | undefined
  /** Values loaded earlier, by path: `giver.hoursLeft`. */
  loaded?: ((names: readonly string[], at: number, bind: Scope['bind']) => NamedValue | undefined) | undefined
  loadedNames?: readonly string[] | undefined
  outcome?: Scope['outcome'] | undefined
}

/** The scope of an expression over the record that `joins` begin at. */
export function recordScope(
  named: NamedExpression,
  joins: Joins | null,
  slots: SlotList,
  surroundings: Surroundings = {},
): Scope {
  const number = slots.expression(named.label, named.source)
  const bind = (value: BoundValue) => bindValue(value, number, slots)
  return {
    names: () => [...(joins?.names() ?? []), ...(surroundings.loadedNames ?? [])],
    find(names, at) {
      const place = orAstray(named, at, () => joins?.find(names))
      if (place) return { sql: place.sql, type: place.property.column.type, sensitive: place.property.sensitive }
      return orAstray(named, at, () => surroundings.loaded?.(names, at, bind))
    },
    parameters: surroundings.parameters,
    bind,
    ...(surroundings.outcome
      ? { outcome: (node) => orAstray(named, node.at, () => surroundings.outcome?.(node) ?? '') }
      : {}),
    mark: (at) => markPlace(number, at),
    linked(node, compile) {
      const link = joins?.links.get(joins.mapping, node.link)
      if (!joins || !link?.toMany) {
        const known = joins ? toManyLinks(joins.mapping) : []
        const words = link ? `${node.link} leads to one record; name its properties as ${node.link}.…` : undefined
        throw expressionProblem(
          named.source,
          node.at,
          words ?? `${node.link} is no link to many records. ${suggestName(node.link, known)}`,
        )
      }
      const alias = joins.aliases.next()
      const inner = new Joins(link.mapping, alias, joins.links, joins.aliases)
      const condition =
        node.condition === null ? '' : ` and ${compile(node.condition, recordScope(named, inner, slots, surroundings))}`
      const list = node.of === 'exists' ? '1' : 'count(*)'
      const select = `select ${list} from ${link.mapping.table.sql} as ${alias}${inner.sql} where ${linkConditionSql(link, joins.alias, alias)}${condition}`
      return node.of === 'exists' ? `exists (${select})` : `(${select})`
    },
  }
}

/** Compiles a condition over the record that `joins` begin at. */
export function conditionSql(
  named: NamedExpression,
  joins: Joins | null,
  slots: SlotList,
  surroundings: Surroundings = {},
): string {
  return valueSql(named, joins, slots, surroundings, plainType('boolean'))
}

/**
 * Compiles the value of an expression, over a record where `joins` begin at one.
 *
 * @throws LedgermanProblem expression-invalid, naming where the expression was written.
 */
export function valueSql(
  named: NamedExpression,
  joins: Joins | null,
  slots: SlotList,
  surroundings: Surroundings,
  wanted: ValueType,
): string {
  try {
    return compileExpression(named.expression, named.source, recordScope(named, joins, slots, surroundings), wanted)
  } catch (error) {
    throw isProblem(error, 'expression-invalid') ? error.with({ where: named.label }) : error
  }
}

function bindValue(value: BoundValue, expression: number, slots: SlotList): string {
  const { type, sensitive } = value
  return value.of === 'literal'
    ? slots.add({
        name: slots.expressions[expression]?.label ?? 'literal',
        type,
        sensitive,
        source: { from: 'literal', expression, at: value.at, text: value.text },
      })
    : slots.add({
        name: `:${value.name}`,
        type,
        sensitive,
        source: { from: 'parameter', name: value.name, isList: value.isList, as: value.as },
      })
}

function orAstray<T>({ source }: NamedExpression, at: number, find: () => T): T {
  try {
    return find()
  } catch (error) {
    if (error instanceof Astray) throw expressionProblem(source, at, error.message)
    throw error
  }
}
