import { parseJson, suggestName } from '@ledgerman/contract'
import type { ColumnType } from '../values/column-type.js'
import { comparedSql } from '../values/sql-form.js'
import { ValueError } from '../values/value-error.js'
import { valueToText } from '../values/value-text.js'
import { visitExpression, type Expression } from './expression.js'
import { expressionProblem } from './expression-problem.js'
import { hasCommonType, isInstant, numberTypeBeside, plainType, TypeReader, type ValueType } from './value-type.js'

/** A value that a name in an expression stands for: its SQL and its type. */
export interface NamedValue {
  sql: string
  type: ColumnType
  sensitive: boolean
}

/** What is bound for a literal or a parameter. */
export type BoundValue =
  | { of: 'literal'; at: number; text: string | null; type: string; sensitive: boolean }
  | { of: 'parameter'; name: string; isList: boolean; type: string; as: ColumnType | null; sensitive: boolean }

/** What an expression may name, and where its literals go: no literal ever stands in the text. */
export interface Scope {
  /** Every name that can begin a path, for suggestions. */
  names(): Iterable<string>
  /** @throws LedgermanProblem where the path goes astray behind its first name. */
  find(names: readonly string[], at: number): NamedValue | undefined
  /** The parameters there are; undefined where any may be named (their types come from what is beside them). */
  parameters?: ReadonlyMap<string, ValueType | undefined> | undefined
  /** Binds a value and gives its placeholder, without the cast. */
  bind(value: BoundValue): string
  /** The SQL of `exists` or `count` on a to-many link; left out where none can be followed. */
  linked?: (
    node: Extract<Expression, { kind: 'linked' }>,
    compile: (condition: Expression, scope: Scope) => string,
  ) => string
  /** The SQL of an earlier step's count. */
  outcome?: (node: Extract<Expression, { kind: 'outcome' }>) => string
  /** Put before what comes from a place of the expression, so that the database's errors can be traced back to it. */
  mark(at: number): string
}

/** Types that `cast` may name. */
export const CAST_TYPES = [
  'boolean',
  'smallint',
  'integer',
  'bigint',
  'numeric',
  'real',
  'text',
  'date',
  'time',
  'timestamp',
  'timestamptz',
  'interval',
  'uuid',
  'jsonb',
]

/**
 * Turns an expression into SQL text: names from the scope, every literal a placeholder with a cast to its type, or to the
 * type of what it is compared with.
 *
 * @param result the type the whole has to have, where it is known: a literal or parameter that is all of it takes it.
 * @throws LedgermanProblem expression-invalid with the place, for unknown names and types.
 */
export function compileExpression(expression: Expression, source: string, scope: Scope, result?: ValueType): string {
  const reader = new TypeReader((node) => {
    if (node.kind === 'parameter') return parameterType(node.name, node.at)
    const { type, sensitive } = resolve(node)
    return { sql: type.comparable, column: type, sensitive }
  })
  const isSensitive = result?.sensitive === true || namesSensitive()
  return sqlOf(expression, result)

  /** Whether a property that must not be shown stands anywhere in it: then no value that it meets may be shown either. */
  function namesSensitive(): boolean {
    let found = false
    visitExpression(expression, (node) => {
      if (node.kind === 'path') found ||= scope.find(node.names, node.at)?.sensitive === true
    })
    return found
  }

  /** `wanted` is the type of the other side, which a literal takes. */
  function sqlOf(node: Expression, wanted: ValueType | undefined): string {
    return scope.mark(node.at) + plainSqlOf(node, wanted)
  }

  function plainSqlOf(node: Expression, wanted: ValueType | undefined): string {
    switch (node.kind) {
      case 'literal':
        return literalSql(node, wanted)
      case 'path':
        return resolve(node).sql
      case 'parameter':
        return parameterSql(node.name, node.at, wanted, false)
      case 'unary':
        return `(${node.operator} ${sqlOf(node.operand, node.operator === 'not' ? plainType('boolean') : wanted)})`
      case 'binary':
        return binarySql(node, wanted)
      case 'is':
        return `(${sqlOf(node.operand, node.test === 'null' ? undefined : plainType('boolean'))} is ${node.negated ? 'not ' : ''}${node.test})`
      case 'distinct': {
        const side = reader.common([node.left, node.right])
        return `(${sqlOf(node.left, side)} is ${node.negated ? 'not ' : ''}distinct from ${sqlOf(node.right, side)})`
      }
      case 'in': {
        const side = reader.common([node.operand, ...node.items])
        return `(${sqlOf(node.operand, side)} ${node.negated ? 'not ' : ''}in (${node.items.map((item) => sqlOf(item, side)).join(', ')}))`
      }
      case 'inList': {
        const side = reader.typeOf(node.operand)
        return `(${sqlOf(node.operand, side)} ${node.negated ? '<> all' : '= any'} (${parameterSql(node.list, node.listAt, side, true)}))`
      }
      case 'between': {
        const side = reader.common([node.operand, node.low, node.high])
        return `(${sqlOf(node.operand, side)} ${node.negated ? 'not ' : ''}between ${sqlOf(node.low, side)} and ${sqlOf(node.high, side)})`
      }
      case 'case': {
        const side = reader.typeOf(node) ?? wanted
        const branches = node.branches.map(
          ({ when, then }) => `when ${sqlOf(when, plainType('boolean'))} then ${sqlOf(then, side)}`,
        )
        return `(case ${branches.join(' ')}${node.otherwise ? ` else ${sqlOf(node.otherwise, side)}` : ''} end)`
      }
      case 'cast':
        if (!CAST_TYPES.includes(node.type.toLowerCase()))
          throw expressionProblem(
            source,
            node.at,
            `${node.type} is no type to cast to; ${suggestName(node.type, CAST_TYPES)}`,
          )
        return `cast(${sqlOf(node.operand, undefined)} as ${node.type.toLowerCase()})`
      case 'call': {
        // date_part is what extract stands for, with the field as an ordinary argument.
        const name = node.name === 'extract' ? 'date_part' : node.name
        const side = hasCommonType(name) ? (reader.common(node.args) ?? wanted) : undefined
        return `${name}(${node.args.map((argument) => sqlOf(argument, side)).join(', ')})`
      }
      case 'linked':
        if (!scope.linked)
          throw expressionProblem(source, node.at, `${node.of} cannot stand here: no link can be followed`)
        return scope.linked(node, (condition, inner) =>
          compileExpression(condition, source, inner, plainType('boolean')),
        )
      case 'outcome':
        if (!scope.outcome)
          throw expressionProblem(source, node.at, `${node.of}(…) is an earlier step's count; there are no steps here`)
        return scope.outcome(node)
    }
  }

  function binarySql(node: Extract<Expression, { kind: 'binary' }>, wanted: ValueType | undefined): string {
    const { operator, left, right } = node
    const [one, other] = sidesOf(node, wanted)
    return `(${sqlOf(left, one)} ${scope.mark(node.operatorAt)}${operator} ${sqlOf(right, other)})`
  }

  /** What each side of an operator takes where it is a literal. */
  function sidesOf(
    { operator, left, right }: Extract<Expression, { kind: 'binary' }>,
    wanted: ValueType | undefined,
  ): [ValueType | undefined, ValueType | undefined] {
    const [one, other] = [reader.typeOf(left), reader.typeOf(right)]
    switch (operator) {
      case 'and':
      case 'or':
        return [plainType('boolean'), plainType('boolean')]
      case 'like':
      case 'ilike':
        return [plainType('text'), { ...plainType('text'), sensitive: one?.sensitive ?? false }]
      case '->':
      case '->>':
        return [undefined, plainType(right.kind === 'literal' && right.of === 'number' ? 'integer' : 'text')]
      case '||':
        return [joinedType(one, left, other), joinedType(other, right, one)]
      case '+':
      case '-':
        if (isInstant(one) && isSpan(right)) return [one, plainType('interval')]
        if (isInstant(other) && isSpan(left)) return [plainType('interval'), other]
        break
    }
    const isComparison = /^[=<>]/.test(operator)
    const side = reader.common([left, right]) ?? (isComparison ? undefined : wanted)
    return [side, side]
  }

  /** Beside a list a literal is a list where it is written as one, and one of its elements otherwise. */
  function joinedType(
    own: ValueType | undefined,
    node: Expression,
    beside: ValueType | undefined,
  ): ValueType | undefined {
    if (own) return own
    if (beside?.column?.kind !== 'array') return beside?.sql === 'jsonb' ? beside : plainType('text')
    const isList = node.kind === 'literal' && /^\s*[[{]/.test(node.text)
    return isList ? beside : plainType(beside.sql.replace(/\[\]$/, ''))
  }

  function literalSql(node: Extract<Expression, { kind: 'literal' }>, wanted: ValueType | undefined): string {
    const sensitive = wanted?.sensitive ?? false
    switch (node.of) {
      case 'null':
        return bound({ of: 'literal', at: node.at, text: null, type: wanted?.sql ?? 'text', sensitive })
      case 'boolean': {
        const type = wanted?.sql === 'jsonb' ? 'jsonb' : 'boolean'
        return bound({ of: 'literal', at: node.at, text: node.text, type, sensitive })
      }
      case 'number': {
        const type = numberTypeBeside(node.text, wanted)
        const as = type === 'money' ? (wanted?.column ?? null) : null
        return bound({ of: 'literal', at: node.at, text: node.text, type, sensitive }, as)
      }
      case 'text': {
        const as = wanted?.column ?? null
        const text = as === null ? node.text : literalText(node.text, as, node.at)
        return bound({ of: 'literal', at: node.at, text, type: wanted?.sql ?? 'text', sensitive }, as)
      }
    }
  }

  /** A text literal beside a property may have the property's JSON form, where that is not PostgreSQL's own text form. */
  function literalText(text: string, type: ColumnType, at: number): string {
    const isJsonForm =
      type.kind === 'array' ? text.trimStart().startsWith('[') : type.kind === 'bytea' && !text.startsWith('\\x')
    if (!isJsonForm) return text
    try {
      return valueToText(type.kind === 'array' ? parseJson(text) : text, type) ?? text
    } catch (error) {
      const expected = error instanceof ValueError ? error.expected : 'a list in JSON, such as ["a", "b"]'
      throw expressionProblem(source, at, `Expected ${expected}`)
    }
  }

  function parameterSql(name: string, at: number, wanted: ValueType | undefined, isList: boolean): string {
    const declared = parameterType(name, at)
    if (declared) {
      const type = declared.sql
      const value = { of: 'parameter' as const, name, isList: false, type, as: declared.column, sensitive: false }
      return bound({ ...value, sensitive: wanted?.sensitive ?? false }, declared.column)
    }
    const type = `${wanted?.sql ?? 'text'}${isList ? '[]' : ''}`
    const as = wanted?.column ?? null
    return bound({ of: 'parameter', name, isList, type, as, sensitive: wanted?.sensitive ?? false }, isList ? null : as)
  }

  function parameterType(name: string, at: number): ValueType | undefined {
    if (!scope.parameters) return undefined
    if (scope.parameters.has(name)) return scope.parameters.get(name)
    const known = [...scope.parameters.keys()].map((each) => `:${each}`)
    const hint = known.length > 0 ? suggestName(`:${name}`, known) : 'there are no parameters here'
    throw expressionProblem(source, at, `:${name} is not known here; ${hint}`)
  }

  function bound(value: BoundValue, as: ColumnType | null = null): string {
    const placeholder = scope.bind({ ...value, sensitive: value.sensitive || isSensitive })
    return as === null ? `${placeholder}::${value.type}` : comparedSql(placeholder, as)
  }

  function resolve(node: Extract<Expression, { kind: 'path' }>): NamedValue {
    const found = scope.find(node.names, node.at)
    if (found) return found
    const name = node.names.join('.')
    throw expressionProblem(source, node.at, `${name} is not known here; ${suggestName(name, scope.names())}`)
  }
}

/** Whether a literal is a span of time rather than a point: it does not begin with a date or a time. */
function isSpan(node: Expression): boolean {
  return node.kind === 'literal' && node.of === 'text' && !/^\s*\d+[-:]\d/.test(node.text)
}
