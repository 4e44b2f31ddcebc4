import { plainType, type ValueType } from '../value-type.js'
import { findNearestName, parseJson, suggestName } from '@ledgerman/contract'
import type { ColumnType } from '../column-type.js'
import { operatorSql, PG_CATALOG, type OperatorPlace } from '../operator-sql.js'
import { comparedSql } from '../sql-form.js'
import { ValueError } from '../value-error.js'
import { valueToText } from '../value-text.js'
import { eachOnce } from './each-once.js'
import { FUNCTIONS, visitExpression, type Expression } from './expression.js'
import { expressionProblem } from './expression-problem.js'
import { literalType, sidesOf } from './literal-types.js'
import { placeBetween, placeOfSign, promotedBeside } from './operator-place.js'
import { CAST_TYPES, hasCommonType, TypeReader } from './value-type.js'

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
        return node.operator === 'not'
          ? `(not ${sqlOf(node.operand, plainType('boolean'))})`
          : `(${operatorSql(node.operator, placeOfSign(reader, node.operand, wanted))} ${sqlOf(node.operand, wanted)})`
      case 'binary':
        return binarySql(node, wanted)
      case 'is':
        return `(${sqlOf(node.operand, node.test === 'null' ? undefined : plainType('boolean'))} is ${node.negated ? 'not ' : ''}${node.test})`
      case 'distinct': {
        const side = reader.common([node.left, node.right])
        return distinctSql(node, side)
      }
      case 'in': {
        const side = reader.common([node.operand, ...node.items])
        return inSql(node, side)
      }
      case 'quantified':
        return quantifiedSql(node)
      case 'between': {
        const side = reader.common([node.operand, node.low, node.high])
        return betweenSql(node, side)
      }
      case 'case':
        return caseSql(node, wanted)
      case 'cast':
        if (!CAST_TYPES.includes(node.type.toLowerCase()))
          throw expressionProblem(source, node.at, `Cannot cast to ${node.type}. ${suggestName(node.type, CAST_TYPES)}`)
        return `cast(${sqlOf(node.operand, undefined)} as ${node.type.toLowerCase()})`
      case 'call': {
        // date_part is what extract stands for, with the field as an ordinary argument.
        const name = node.name === 'extract' ? 'date_part' : node.name
        const side = hasCommonType(name) ? (reader.common(node.args) ?? wanted) : undefined
        const args = node.args.map((argument) => sqlOf(argument, side))
        if (name === 'nullif') return nullifSql(node.args, args, side)
        return `${FUNCTION_SQL[name] ?? `pg_catalog.${name}`}(${args.join(', ')})`
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
    const [one, other] = sidesOf(reader, node, wanted)
    return `(${sqlOf(left, one)} ${scope.mark(node.operatorAt)}${operatorBetween()} ${sqlOf(right, other)})`

    /** As the types on both sides have it, wherever somebody has put others of that name. */
    function operatorBetween(): string {
      if (operator === 'and' || operator === 'or') return operator
      const place = placeBetween(reader, operator, [left, right], [one, other])
      return place === null ? operator : operatorSql(LIKE_OPERATORS[operator] ?? operator, place)
    }
  }

  /** Where `=` and its like are between two that take `side` where they are literals. */
  function placeOf(one: Expression, other: Expression, side: ValueType | undefined): OperatorPlace {
    return placeBetween(reader, '=', [one, other], [side, side])
  }

  function distinctSql(
    { left, right, negated }: Extract<Expression, { kind: 'distinct' }>,
    side: ValueType | undefined,
  ) {
    const [one, other] = [sqlOf(left, side), sqlOf(right, side)]
    const place = placeOf(left, right, side)
    if (place === null) return `(${one} is ${negated ? 'not ' : ''}distinct from ${other})`
    const differ = eachOnce(
      [one, other],
      ([a, b]) =>
        `case when ${a} is null or ${b} is null then (${a} is null) <> (${b} is null) else not (${a} ${operatorSql('=', place)} ${b}) end`,
    )
    return negated ? `(not ${differ})` : `(${differ})`
  }

  function caseSql(node: Extract<Expression, { kind: 'case' }>, wanted: ValueType | undefined): string {
    const { operand, branches, otherwise } = node
    const side = reader.typeOf(node) ?? wanted
    const compared = operand ? reader.common([operand, ...branches.map(({ when }) => when)]) : plainType('boolean')
    const one = operand && sqlOf(operand, compared)
    const parts = branches.map(({ when, then }) => ({
      place: operand && placeOf(operand, when, compared),
      when: sqlOf(when, compared),
      then: sqlOf(then, side),
    }))
    const last = otherwise ? ` else ${sqlOf(otherwise, side)}` : ''
    if (one === null || parts.every(({ place }) => place === null))
      return `(case ${one === null ? '' : `${one} `}${parts.map(({ when, then }) => `when ${when} then ${then}`).join(' ')}${last} end)`
    return eachOnce([one], ([name]) => {
      const tests = parts.map(
        ({ place, when, then }) => `when ${name} ${operatorSql('=', place ?? PG_CATALOG)} ${when} then ${then}`,
      )
      return `(case ${tests.join(' ')}${last} end)`
    })
  }

  function inSql({ operand, items, negated }: Extract<Expression, { kind: 'in' }>, side: ValueType | undefined) {
    const [one, listed] = [sqlOf(operand, side), items.map((item) => sqlOf(item, side))]
    const place = items.map((item) => placeOf(operand, item, side)).find((each) => each !== null) ?? null
    if (place === null) return `(${one} ${negated ? 'not ' : ''}in (${listed.join(', ')}))`
    // In one array all would be of one type, and texts be compared as padded ones are: SQL compares with each for itself.
    if (new Set(items.map((item) => reader.typeOf(item)?.sql ?? side?.sql)).size > 1)
      return eachOnce([one], ([name]) => {
        const equals = (item: Expression) => operatorSql(negated ? '<>' : '=', placeOf(operand, item, side))
        const tests = items.map((item, at) => `${name} ${equals(item)} ${listed[at]}`)
        return `(${tests.join(negated ? ' and ' : ' or ')})`
      })
    // An array of arrays would be compared by its elements.
    if (side?.column?.kind === 'array') {
      const rows = listed.map((item) => `(${item})`)
      return `(${one} ${operatorSql(negated ? '<>' : '=', place)} ${negated ? 'all' : 'any'} (values ${rows.join(', ')}))`
    }
    return `(${one} ${operatorSql(negated ? '<>' : '=', place)} ${negated ? 'all' : 'any'} (array[${listed.join(', ')}]))`
  }

  function quantifiedSql({ operator, of, operand, list, operatorAt }: Extract<Expression, { kind: 'quantified' }>) {
    const type = reader.typeOf(list)
    const isOpen = list.kind === 'parameter' && type === undefined
    const element = elementOf(type)
    if (!isOpen && !element)
      throw expressionProblem(
        source,
        list.at,
        `Expected an array: a property that is one, or a parameter that holds one`,
      )
    const own = reader.typeOf(operand)
    const side = element ?? own
    const named = [side, own].find((each) => each?.column && each.column.operators !== PG_CATALOG)?.column
    // What an open list holds is of the type that it is compared with.
    const place = isOpen ? placeOf(operand, operand, side) : (named?.operators ?? PG_CATALOG)
    const listed = isOpen ? parameterSql(list.name, list.at, side, true) : sqlOf(list, type)
    const sign = operatorSql(operator, place)
    return `(${sqlOf(operand, side)} ${scope.mark(operatorAt)}${sign} ${of} (${listed}))`
  }

  function betweenSql(node: Extract<Expression, { kind: 'between' }>, side: ValueType | undefined) {
    const { operand, low, high, negated } = node
    const [one, least, most] = [sqlOf(operand, side), sqlOf(low, side), sqlOf(high, side)]
    const place = [low, high].map((end) => placeOf(operand, end, side)).find((each) => each !== null) ?? null
    if (place === null) return `(${one} ${negated ? 'not ' : ''}between ${least} and ${most})`
    const inside = eachOnce(
      [one],
      ([name]) => `${name} ${operatorSql('>=', place)} ${least} and ${name} ${operatorSql('<=', place)} ${most}`,
    )
    return negated ? `(not (${inside}))` : `(${inside})`
  }

  /** As SQL's own, which looks for its operator in the search path. */
  function nullifSql(
    nodes: readonly Expression[],
    [one = '', other = '']: readonly string[],
    side: ValueType | undefined,
  ): string {
    const both = [nodes[0], nodes[1]] as [Expression, Expression]
    const place = placeOf(...both, side)
    if (place === null) return `nullif(${one}, ${other})`
    const promoted = promotedBeside(reader, both, side)
    const result = (name: string) => (promoted === null ? name : `cast(${name} as pg_catalog.${promoted})`)
    return eachOnce(
      [one],
      ([name = '']) => `(case when ${name} ${operatorSql('=', place)} ${other} then null else ${result(name)} end)`,
    )
  }

  function literalSql(node: Extract<Expression, { kind: 'literal' }>, wanted: ValueType | undefined): string {
    const sensitive = wanted?.sensitive ?? false
    switch (node.of) {
      case 'null':
        return bound({ of: 'literal', at: node.at, text: null, type: wanted?.sql ?? 'text', sensitive })
      case 'boolean':
        return bound({ of: 'literal', at: node.at, text: node.text, type: literalType(node, wanted).sql, sensitive })
      case 'number': {
        const { sql: type, column } = literalType(node, wanted)
        const as = type === 'money' ? column : null
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
    const hint = known.length > 0 ? suggestName(`:${name}`, known) : 'There are no parameters here.'
    throw expressionProblem(source, at, `Unknown parameter :${name}. ${hint}`)
  }

  function bound(value: BoundValue, as: ColumnType | null = null): string {
    const placeholder = scope.bind({ ...value, sensitive: value.sensitive || isSensitive })
    return as === null ? `${placeholder}::${value.type}` : comparedSql(placeholder, as)
  }

  function resolve(node: Extract<Expression, { kind: 'path' }>): NamedValue {
    const found = scope.find(node.names, node.at)
    if (found) return found
    const name = node.names.join('.')
    // In double quotes it is a name to SQL, and a text to those who come from elsewhere.
    if (source[node.at] === '"')
      throw expressionProblem(source, node.at, `Unknown name ${name}`, `A text stands in single quotes: '${name}'.`)
    if (scope.parameters?.has(name))
      throw expressionProblem(source, node.at, `Unknown name ${name}`, `Did you mean the parameter :${name}?`)
    const known = [...scope.names()]
    if (known.length === 0)
      throw expressionProblem(
        source,
        node.at,
        `Unknown name ${name}`,
        "There is nothing to name here yet: parameters are written :name, texts stand in single quotes, and a record has the name that an earlier step gives it by 'as'.",
      )
    if (Object.hasOwn(FUNCTIONS, name))
      throw expressionProblem(
        source,
        node.at,
        `Unknown name ${name}`,
        `${name} is a function: ${name}(${FUNCTIONS[name]?.[1] === 0 ? '' : '…'}).`,
      )
    // One that is like no other may have been meant as a text.
    const isText = node.names.length === 1 && findNearestName(name, known) === undefined
    const advice = `${isText ? `A text stands in single quotes: '${name}'. ` : ''}${suggestName(name, known)}`
    throw expressionProblem(source, node.at, `Unknown name ${name}`, advice)
  }
}

/** The type of what an array holds; undefined where it is none. */
function elementOf(list: ValueType | undefined): ValueType | undefined {
  const element = list?.column?.element
  if (!list || !element) return undefined
  const column = { ...element, element: null, domain: null, domainNotNull: false, domains: [] }
  return { sql: element.comparable, column, sensitive: list.sensitive }
}

/** What is no function to PostgreSQL's grammar, or is called otherwise there. */
const FUNCTION_SQL: Readonly<Record<string, string>> = {
  coalesce: 'coalesce',
  least: 'least',
  greatest: 'greatest',
  trim: 'pg_catalog.btrim',
}

/** The operators that these words stand for. */
const LIKE_OPERATORS: Readonly<Record<string, string>> = { like: '~~', ilike: '~~*' }
