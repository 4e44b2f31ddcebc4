import { suggestName } from '@ledgerman/contract'
import type { ColumnType } from '../values/column-type.js'
import type { Expression } from './expression.js'
import { expressionProblem } from './expression-problem.js'

/** A value that a name in an expression stands for: its SQL and, where it is known, its type. */
export interface NamedValue {
  sql: string
  type: ColumnType
}

/** What an expression may name, and where its literals go: no literal ever stands in the text. */
export interface Scope {
  names: Iterable<string>
  find(name: string): NamedValue | undefined
  /** Binds a literal and gives its placeholder, without the cast. */
  bind(text: string, type: string): string
}

const CAST_TYPES = [
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
 * Turns an expression into SQL text: names from the scope, every literal a placeholder with a cast to its type.
 *
 * @throws LedgermanProblem expression-invalid with the place, for unknown names and types.
 */
export function compileExpression(expression: Expression, source: string, scope: Scope): string {
  return sqlOf(expression, undefined)

  /** `wanted` is the type of the other side, which a text literal takes. */
  function sqlOf(node: Expression, wanted: string | undefined): string {
    switch (node.kind) {
      case 'literal':
        return literalSql(node, wanted)
      case 'path':
        return resolve(node).sql
      case 'unary':
        return `(${node.operator} ${sqlOf(node.operand, wanted)})`
      case 'binary': {
        const isLogic = node.operator === 'and' || node.operator === 'or'
        const isJsonStep = node.operator === '->' || node.operator === '->>'
        const side = isLogic
          ? undefined
          : isJsonStep
            ? jsonStepType(node.right)
            : (typeOf(node.left) ?? typeOf(node.right) ?? wanted)
        return `(${sqlOf(node.left, isJsonStep ? undefined : side)} ${node.operator} ${sqlOf(node.right, side)})`
      }
      case 'is':
        return `(${sqlOf(node.operand, undefined)} is ${node.negated ? 'not ' : ''}${node.test})`
      case 'distinct': {
        const side = typeOf(node.left) ?? typeOf(node.right)
        return `(${sqlOf(node.left, side)} is ${node.negated ? 'not ' : ''}distinct from ${sqlOf(node.right, side)})`
      }
      case 'in': {
        const side = typeOf(node.operand) ?? node.items.map(typeOf).find((type) => type !== undefined)
        return `(${sqlOf(node.operand, side)} ${node.negated ? 'not ' : ''}in (${node.items.map((item) => sqlOf(item, side)).join(', ')}))`
      }
      case 'between': {
        const side = typeOf(node.operand) ?? typeOf(node.low)
        return `(${sqlOf(node.operand, side)} ${node.negated ? 'not ' : ''}between ${sqlOf(node.low, side)} and ${sqlOf(node.high, side)})`
      }
      case 'case': {
        const side =
          [...node.branches.map(({ then }) => then), ...(node.otherwise ? [node.otherwise] : [])]
            .map(typeOf)
            .find((type) => type !== undefined) ?? wanted
        const branches = node.branches.map(
          ({ when, then }) => `when ${sqlOf(when, undefined)} then ${sqlOf(then, side)}`,
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
        const side = ['coalesce', 'nullif', 'least', 'greatest'].includes(name)
          ? (node.args.map(typeOf).find((type) => type !== undefined) ?? wanted)
          : undefined
        return `${name}(${node.args.map((argument) => sqlOf(argument, side)).join(', ')})`
      }
    }
  }

  function literalSql(node: Extract<Expression, { kind: 'literal' }>, wanted: string | undefined): string {
    switch (node.of) {
      case 'null':
        return wanted === undefined ? 'null' : `null::${wanted}`
      case 'boolean':
        return node.text
      case 'number':
        return cast(
          node.text,
          wanted !== undefined && isNumeric(wanted) && /[.eE]/.test(node.text) === false
            ? wanted
            : numberType(node.text),
        )
      case 'text':
        return cast(node.text, wanted ?? 'text')
    }
  }

  function cast(text: string, type: string): string {
    return `${scope.bind(text, type)}::${type}`
  }

  function resolve(node: Extract<Expression, { kind: 'path' }>): NamedValue {
    const name = node.names.join('.')
    const found = scope.find(name)
    if (!found) throw expressionProblem(source, node.at, `${name} is not known here; ${suggestName(name, scope.names)}`)
    return found
  }

  /** The comparable type of a node, where it is known without asking the database. */
  function typeOf(node: Expression): string | undefined {
    switch (node.kind) {
      case 'path':
        return resolve(node).type.comparable
      case 'literal':
        return node.of === 'number' ? numberType(node.text) : undefined
      case 'cast':
        return node.type.toLowerCase()
      case 'unary':
        return node.operator === 'not' ? 'boolean' : typeOf(node.operand)
      case 'binary':
        return node.operator === '->>' || node.operator === '||'
          ? 'text'
          : ['+', '-', '*', '/', '%'].includes(node.operator)
            ? (typeOf(node.left) ?? typeOf(node.right))
            : undefined
      case 'call':
        return ['lower', 'upper', 'trim', 'substring', 'replace', 'left', 'right'].includes(node.name)
          ? 'text'
          : ['coalesce', 'nullif', 'least', 'greatest', 'round', 'floor', 'ceil', 'abs'].includes(node.name)
            ? node.args.map(typeOf).find((type) => type !== undefined)
            : undefined
      default:
        return undefined
    }
  }
}

function numberType(text: string): string {
  if (!/^\d+$/.test(text)) return 'numeric'
  return text.length < 10 ? 'integer' : text.length < 19 ? 'bigint' : 'numeric'
}

function isNumeric(type: string): boolean {
  return ['smallint', 'integer', 'bigint', 'numeric', 'real', 'double precision'].includes(type)
}

function jsonStepType(step: Expression): string | undefined {
  return step.kind === 'literal' && step.of === 'number' ? 'integer' : 'text'
}
