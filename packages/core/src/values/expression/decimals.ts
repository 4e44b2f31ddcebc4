import type { Expression } from './expression.js'

/** How many decimals a named value can have; Infinity where that is not known. */
export type DecimalsOf = (node: Extract<Expression, { kind: 'path' | 'parameter' }>) => number

/** What keeps the decimals of the one of its arguments that has the most. */
const KEEPING = ['coalesce', 'nullif', 'least', 'greatest', 'abs']

/**
 * How many decimals the value of an expression can have at most, by the rules of numeric arithmetic (PostgreSQL's
 * `numeric.c`: sums keep the longer scale, products add them); Infinity where it cannot be told, as of a division.
 */
export function decimalsOf(node: Expression, named: DecimalsOf): number {
  const most = (nodes: readonly Expression[]) => Math.max(0, ...nodes.map((each) => decimalsOf(each, named)))
  switch (node.kind) {
    case 'path':
    case 'parameter':
      return named(node)
    case 'literal':
      return node.of === 'number' || node.of === 'text' ? decimalsOfText(node.text) : 0
    case 'unary':
      return decimalsOf(node.operand, named)
    case 'binary':
      switch (node.operator) {
        case '+':
        case '-':
        case '%':
          return most([node.left, node.right])
        case '*':
          return decimalsOf(node.left, named) + decimalsOf(node.right, named)
        default:
          return Infinity
      }
    case 'case':
      return most([...node.branches.map(({ then }) => then), ...(node.otherwise ? [node.otherwise] : [])])
    case 'cast':
      return /^(smallint|integer|bigint|int[248]?)$/i.test(node.type) ? 0 : Infinity
    case 'call':
      return decimalsOfCall(node, most)
    case 'linked':
    case 'outcome':
      return 0
    default:
      return Infinity
  }
}

function decimalsOfCall(
  { name, args }: Extract<Expression, { kind: 'call' }>,
  most: (nodes: readonly Expression[]) => number,
): number {
  if (KEEPING.includes(name)) return most(args)
  if (name === 'floor' || name === 'ceil' || name === 'length') return 0
  const [, digits] = args
  if (name !== 'round') return Infinity
  if (digits === undefined) return 0
  return digits.kind === 'literal' && /^\d+$/.test(digits.text) ? Number(digits.text) : most(args.slice(0, 1))
}

/** How many decimals a number has as it is written: none that only fill it up; Infinity where it is no plain number. */
export function decimalsOfText(text: string): number {
  const digits = /^[-+]?\d*(?:\.(\d*))?$/.exec(text.trim())
  return digits ? (digits[1] ?? '').replace(/(?<!0)0+$/, '').length : Infinity
}
