import { plainType, type ValueType } from '../value-type.js'
import type { Expression } from './expression.js'
import { isSpanBeside, numberTypeBeside, type TypeReader } from './value-type.js'

type Binary = Extract<Expression, { kind: 'binary' }>

/** What each side of an operator takes where it is a literal; `wanted` is what the whole has to be. */
export function sidesOf(
  reader: TypeReader,
  { operator, left, right }: Binary,
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
      if (isSpanBeside(operator, right, one)) return [one, plainType('interval')]
      if (isSpanBeside(operator, left, other)) return [plainType('interval'), other]
      break
    case '*':
    case '/':
      // Money is multiplied by numbers, and by no money.
      if ([one, other].some((side) => side?.sql === 'money')) return [plainType('numeric'), plainType('numeric')]
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

/** The type a literal is bound as, where `wanted` is that of the other side. */
export function literalType(node: Extract<Expression, { kind: 'literal' }>, wanted: ValueType | undefined): ValueType {
  switch (node.of) {
    case 'number': {
      const type = numberTypeBeside(node.text, wanted)
      return type === wanted?.sql ? wanted : plainType(type)
    }
    case 'boolean':
      return plainType(wanted?.sql === 'jsonb' ? 'jsonb' : 'boolean')
    default:
      return wanted ?? plainType('text')
  }
}
