import { plainType, type ValueType } from '../value-type.js'
import { operatorPlace, PG_CATALOG, type OperatorPlace } from '../operator-sql.js'
import type { Expression } from './expression.js'
import { literalType, sidesOf } from './literal-types.js'
import { CAST_TYPES, momentOf, type TypeReader } from './value-type.js'

/**
 * Where the operator between two values is: null where PostgreSQL has one for just their two types, which is then taken whatever
 * somebody has put into the search path (PostgreSQL, "Operator Type Resolution").
 *
 * @param sides what each takes where it is a literal.
 */
export function placeBetween(
  reader: TypeReader,
  operator: string,
  nodes: readonly [Expression, Expression],
  sides: readonly [ValueType | undefined, ValueType | undefined],
): OperatorPlace {
  const types = nodes.map((node, at) => reader.typeOf(node) ?? sides[at])
  const own = types.find((type) => type?.column && type.column.operators !== PG_CATALOG)?.column
  if (own) return own.operators
  const [left, right] = nodes.map((node, at) => exactName(sureType(reader, node, sides[at])))
  if (left === undefined || right === undefined) return PG_CATALOG
  return hasExact(operator, left, right) ? null : PG_CATALOG
}

/**
 * The type that the first of two values is made where it is compared with the second, and which it has as the result of `nullif`; null
 * where it stays what it is, or is not known (PostgreSQL, "Conditional Expressions", NULLIF; "Operator Type Resolution").
 */
export function promotedBeside(
  reader: TypeReader,
  [one, other]: readonly [Expression, Expression],
  side: ValueType | undefined,
): string | null {
  const [left, right] = [one, other].map((node) => baseName(sureType(reader, node, side))) as [string?, string?]
  if (left === undefined || right === undefined || left === right) return null
  if (TEXTS.has(left) && TEXTS.has(right)) {
    if (left === 'text') return null
    return right === 'text' ? 'text' : left === 'bpchar' ? null : 'bpchar'
  }
  const isExact = INTEGERS.has(left) || left === 'numeric'
  if (isExact && (right === 'real' || right === 'double precision')) return 'float8'
  return INTEGERS.has(left) && right === 'numeric' ? 'numeric' : null
}

/** The name of a type of texts or numbers, whatever its length; undefined for others. */
function baseName(type: ValueType | undefined): string | undefined {
  if (type?.column && type.column.operators !== PG_CATALOG) return undefined
  const name = type?.column ? (PLAIN_NAMES[type.column.name] ?? type.column.name) : type?.sql
  return name !== undefined && (TEXTS.has(name) || NUMBERS.has(name)) ? name : undefined
}

const TEXTS = new Set(['text', 'varchar', 'bpchar'])
const PLAIN_NAMES: Readonly<Record<string, string>> = {
  int2: 'smallint',
  int4: 'integer',
  int8: 'bigint',
  float4: 'real',
  float8: 'double precision',
}

/** Where the sign before a value is. */
export function placeOfSign(reader: TypeReader, node: Expression, wanted: ValueType | undefined): OperatorPlace {
  const own = reader.typeOf(node)?.column
  if (own && own.operators !== PG_CATALOG) return own.operators
  const name = exactName(sureType(reader, node, wanted))
  return name !== undefined && (NUMBERS.has(name) || name === 'interval') ? null : PG_CATALOG
}

/** The type a value really has in the statement; undefined where PostgreSQL works it out from several. */
function sureType(reader: TypeReader, node: Expression, wanted: ValueType | undefined): ValueType | undefined {
  switch (node.kind) {
    case 'literal':
      return literalType(node, wanted)
    case 'parameter':
      return reader.typeOf(node) ?? wanted
    case 'unary':
      return node.operator === 'not' ? plainType('boolean') : sureType(reader, node.operand, wanted)
    case 'binary':
      return /^[-+*/%]$/.test(node.operator) ? resultType(reader, node) : reader.typeOf(node)
    case 'case':
      return undefined
    case 'call':
      return MIXING.has(node.name) ? undefined : reader.typeOf(node)
    default:
      return reader.typeOf(node)
  }
}

/** Of two numbers of one type a number of that type; undefined for anything else. */
function resultType(reader: TypeReader, node: Extract<Expression, { kind: 'binary' }>): ValueType | undefined {
  const before = reader.sure.get(node)
  if (before) return before.type
  const [one, other] = sidesOf(reader, node, undefined)
  const [left, right] = [sureType(reader, node.left, one), sureType(reader, node.right, other)]
  const name = exactName(left)
  const type = name !== undefined && name === exactName(right) && NUMBERS.has(name) ? plainType(name) : undefined
  reader.sure.set(node, { type })
  return type
}

/** Functions whose result is of the type that their arguments come to. */
const MIXING = new Set(['coalesce', 'nullif', 'least', 'greatest', 'round', 'floor', 'ceil', 'abs', 'date_trunc'])

const INTEGERS = new Set(['smallint', 'integer', 'bigint'])
const NUMBERS = new Set([...INTEGERS, 'numeric', 'real', 'double precision'])

/** Whether PostgreSQL has this operator for just these two types (its catalogue `pg_operator`). */
function hasExact(operator: string, left: string, right: string): boolean {
  const isSame = left === right
  const areIntegers = INTEGERS.has(left) && INTEGERS.has(right)
  switch (operator) {
    case '=':
    case '<>':
    case '<':
    case '<=':
    case '>':
    case '>=':
      return isSame || areIntegers
    case '+':
    case '-':
      if (right === 'interval') return left === 'interval' || momentOf(plainType(left)) !== null
      if (left === 'date') return right === 'integer' || (operator === '-' && isSame)
      return areIntegers || (isSame && (NUMBERS.has(left) || left === 'money'))
    case '*':
    case '/':
      return areIntegers || (isSame && NUMBERS.has(left))
    case '%':
      return isSame && (INTEGERS.has(left) || left === 'numeric')
    case '||':
      return isSame && (left === 'text' || left === 'jsonb' || left === 'bytea')
    case 'like':
    case 'ilike':
      return right === 'text' && (left === 'text' || left === 'bpchar')
    case '->':
    case '->>':
      return left === 'jsonb' && (right === 'text' || right === 'integer')
    default:
      return false
  }
}

/** The name of a type whose operators are PostgreSQL's own; undefined for others, and where it is not known. */
function exactName(type: ValueType | undefined): string | undefined {
  if (type === undefined) return undefined
  if (type.column) return operatorPlace(type.column) === null ? type.column.comparable : undefined
  const name = LONG_NAMES[type.sql] ?? type.sql
  return EXACT_NAMES.has(name) ? name : undefined
}

const LONG_NAMES: Readonly<Record<string, string>> = {
  timestamptz: 'timestamp with time zone',
  timestamp: 'timestamp without time zone',
  time: 'time without time zone',
}
const EXACT_NAMES = new Set(CAST_TYPES.map((name) => LONG_NAMES[name] ?? name).concat('double precision', 'money'))
