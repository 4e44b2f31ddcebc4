import { plainType, type ValueType } from '../value-type.js'
import type { Expression } from './expression.js'

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

const TEXT_FUNCTIONS = ['lower', 'upper', 'trim', 'substring', 'replace', 'left', 'right']
const COMMON_TYPE_FUNCTIONS = ['coalesce', 'nullif', 'least', 'greatest']
const SAME_TYPE_FUNCTIONS = [...COMMON_TYPE_FUNCTIONS, 'round', 'floor', 'ceil', 'abs']

/** Infers types by PostgreSQL's own rules, as far as a literal's type depends on it; undefined where it does not. */
export class TypeReader {
  readonly #known = new WeakMap<Expression, { type: ValueType | undefined }>()
  /** What the parts of a sum really are, each worked out once: a long one would be gone through again for each of its terms otherwise. */
  readonly sure = new WeakMap<Expression, { type: ValueType | undefined }>()

  /** @param named the type of a property, loaded value or declared parameter. */
  constructor(readonly named: (node: Extract<Expression, { kind: 'path' | 'parameter' }>) => ValueType | undefined) {}

  typeOf(node: Expression): ValueType | undefined {
    const known = this.#known.get(node)
    if (known) return known.type
    const type = this.#read(node)
    this.#known.set(node, { type })
    return type
  }

  /** The type that these have in common: the first that is known, a property's before a literal's. */
  common(nodes: readonly Expression[]): ValueType | undefined {
    const types = nodes.map((node) => this.typeOf(node))
    return types.find((type) => type?.column) ?? types.find((type) => type !== undefined)
  }

  #read(node: Expression): ValueType | undefined {
    switch (node.kind) {
      case 'path':
      case 'parameter':
        return this.named(node)
      case 'literal':
        return node.of === 'number'
          ? plainType(numberType(node.text))
          : node.of === 'boolean'
            ? plainType('boolean')
            : undefined
      case 'cast':
        return plainType(node.type.toLowerCase())
      case 'unary':
        return node.operator === 'not' ? plainType('boolean') : this.typeOf(node.operand)
      case 'binary':
        return this.#binaryType(node)
      case 'case':
        return this.common([...node.branches.map(({ then }) => then), ...(node.otherwise ? [node.otherwise] : [])])
      case 'call':
        return this.#callType(node)
      case 'linked':
        return plainType(node.of === 'count' ? 'bigint' : 'boolean')
      case 'outcome':
        return plainType('bigint')
      default:
        return plainType('boolean')
    }
  }

  #binaryType({ operator, left, right }: Extract<Expression, { kind: 'binary' }>): ValueType | undefined {
    switch (operator) {
      case '->>':
        return plainType('text')
      case '->':
        return plainType(this.typeOf(left)?.column?.kind === 'json' ? 'json' : 'jsonb')
      case '||': {
        const joined = this.common([left, right])
        return joined?.column?.kind === 'array' || joined?.sql === 'jsonb' ? joined : plainType('text')
      }
      case '+':
      case '-':
        return this.#sumType(operator, left, right)
      case '/':
        if ([left, right].every((side) => this.typeOf(side)?.sql === 'money')) return plainType('double precision')
        return this.common([left, right])
      case '*':
      case '%':
        return this.common([left, right])
      default:
        return plainType('boolean')
    }
  }

  #sumType(operator: '+' | '-', left: Expression, right: Expression): ValueType | undefined {
    const [one, other] = [this.typeOf(left), this.typeOf(right)]
    if (!isInstant(one) && !isInstant(other)) return this.common([left, right])
    // A literal is a span, or what it stands beside.
    const typeBeside = (node: Expression, type: ValueType | undefined) =>
      isSpanBeside(operator, node, type) ? plainType('interval') : type
    return sumType(operator, one ?? typeBeside(left, other), other ?? typeBeside(right, one))
  }

  #callType({ name, args }: Extract<Expression, { kind: 'call' }>): ValueType | undefined {
    if (TEXT_FUNCTIONS.includes(name)) return plainType('text')
    if (SAME_TYPE_FUNCTIONS.includes(name)) {
      const type = this.common(name === 'round' ? args.slice(0, 1) : args)
      return type && COMMON_TYPE_FUNCTIONS.includes(name) ? type : type && plainType(type.sql)
    }
    switch (name) {
      case 'length':
        return plainType('integer')
      case 'now':
        return plainType('timestamptz')
      case 'extract':
        return plainType('double precision')
      case 'date_trunc':
        return args[1] && this.typeOf(args[1])
      default:
        return undefined
    }
  }
}

/** Whether a call gives its arguments' common type. */
export function hasCommonType(name: string): boolean {
  return COMMON_TYPE_FUNCTIONS.includes(name)
}

/** Points in time, and times of day, to which an interval can be added. */
function isInstant(type: ValueType | undefined): boolean {
  return momentOf(type) !== null
}

type Moment = 'date' | 'time' | 'timetz' | 'timestamp' | 'timestamptz'

const MOMENTS: Readonly<Record<string, Moment>> = {
  date: 'date',
  time: 'time',
  'time without time zone': 'time',
  timetz: 'timetz',
  'time with time zone': 'timetz',
  timestamp: 'timestamp',
  'timestamp without time zone': 'timestamp',
  timestamptz: 'timestamptz',
  'timestamp with time zone': 'timestamptz',
}

/** Which point in time, or time of day, a type is; null for others. */
export function momentOf(type: ValueType | undefined): Moment | null {
  return MOMENTS[type?.sql ?? ''] ?? null
}

/** What adding two such, or taking one from the other, gives (PostgreSQL, "Date/Time Operators"). */
function sumType(operator: '+' | '-', one: ValueType | undefined, other: ValueType | undefined): ValueType | undefined {
  const [a, b] = [momentOf(one), momentOf(other)]
  if (a !== null && b !== null) {
    if (operator === '-') return plainType(a === 'date' && b === 'date' ? 'integer' : 'interval')
    return plainType(a.endsWith('tz') || b.endsWith('tz') ? 'timestamptz' : 'timestamp')
  }
  const [moment, beside] = a === null ? [other, one] : [one, other]
  return momentOf(moment) === 'date' && beside?.sql === 'interval' ? plainType('timestamp') : moment
}

/** Whether a literal is a span of time that is added to what stands beside it: it does not begin with a date or a time, or no time could be added. */
export function isSpanBeside(operator: '+' | '-', node: Expression, beside: ValueType | undefined): boolean {
  const moment = momentOf(beside)
  if (moment === null || node.kind !== 'literal' || node.of !== 'text') return false
  return (operator === '+' && moment !== 'date') || !/^\s*\d+[-:]\d/.test(node.text)
}

/** The type PostgreSQL gives a number that stands in a statement. */
export function numberType(text: string): string {
  if (!/^\d+$/.test(text)) return 'numeric'
  return text.length < 10 ? 'integer' : text.length < 19 ? 'bigint' : 'numeric'
}

/** The type a number is bound as beside a value of type `wanted`: exact types stay what they are, so that indexes serve. */
export function numberTypeBeside(text: string, wanted: ValueType | undefined): string {
  const isWhole = /^\d+$/.test(text)
  switch (wanted?.sql) {
    case 'numeric':
    case 'real':
    case 'double precision':
    case 'jsonb':
      return wanted.sql
    case 'money':
      return 'money'
    case 'bigint':
      return isWhole && text.length < 19 ? 'bigint' : 'numeric'
    default:
      return numberType(text)
  }
}
