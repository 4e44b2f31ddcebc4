/** An expression as it was read: names are not resolved yet. `at` is the offset of its first character. */
export type Expression = { at: number } & (
  | { kind: 'literal'; of: 'text' | 'number' | 'boolean' | 'null'; text: string }
  | { kind: 'path'; names: string[] }
  | { kind: 'parameter'; name: string }
  | { kind: 'unary'; operator: 'not' | '-' | '+'; operand: Expression }
  | { kind: 'binary'; operator: string; left: Expression; right: Expression; operatorAt: number }
  | { kind: 'is'; operand: Expression; test: 'null' | 'true' | 'false'; negated: boolean }
  | { kind: 'distinct'; left: Expression; right: Expression; negated: boolean }
  | { kind: 'in'; operand: Expression; items: Expression[]; negated: boolean }
  | {
      kind: 'quantified'
      operator: string
      of: 'any' | 'all'
      operand: Expression
      list: Expression
      operatorAt: number
    }
  | { kind: 'between'; operand: Expression; low: Expression; high: Expression; negated: boolean }
  | {
      kind: 'case'
      /** What each `when` is compared with; null where each is a condition. */
      operand: Expression | null
      branches: { when: Expression; then: Expression }[]
      otherwise: Expression | null
    }
  | { kind: 'cast'; operand: Expression; type: string }
  | { kind: 'call'; name: string; args: Expression[] }
  | { kind: 'linked'; of: 'exists' | 'count'; link: string; condition: Expression | null }
  | { kind: 'outcome'; of: 'changed' | 'matched'; name: string }
)

/** Exactly these functions may be called, each with so many arguments. */
export const FUNCTIONS: Readonly<Record<string, readonly [least: number, most: number]>> = {
  lower: [1, 1],
  upper: [1, 1],
  trim: [1, 1],
  length: [1, 1],
  substring: [2, 3],
  replace: [3, 3],
  left: [2, 2],
  right: [2, 2],
  coalesce: [1, 50],
  nullif: [2, 2],
  round: [1, 2],
  floor: [1, 1],
  ceil: [1, 1],
  abs: [1, 1],
  least: [1, 50],
  greatest: [1, 50],
  now: [0, 0],
  date_trunc: [2, 2],
  extract: [2, 2],
}

export const COMPARISONS = ['=', '<>', '!=', '<', '<=', '>', '>='] as const

/** Calls `visit` for the expression and everything in it, but for what stands inside `exists` and `count`. */
export function visitExpression(expression: Expression, visit: (node: Expression) => void): void {
  visit(expression)
  for (const part of partsOf(expression)) visitExpression(part, visit)
}

/** The names of all parameters in an expression, those inside `exists` and `count` too. */
export function parametersOf(expression: Expression): Set<string> {
  const names = new Set<string>()
  visitExpression(expression, (node) => {
    if (node.kind === 'parameter') names.add(node.name)
    if (node.kind === 'linked' && node.condition) for (const name of parametersOf(node.condition)) names.add(name)
  })
  return names
}

function partsOf(node: Expression): Expression[] {
  switch (node.kind) {
    case 'unary':
    case 'is':
    case 'cast':
      return [node.operand]
    case 'binary':
    case 'distinct':
      return [node.left, node.right]
    case 'quantified':
      return [node.operand, node.list]
    case 'in':
      return [node.operand, ...node.items]
    case 'between':
      return [node.operand, node.low, node.high]
    case 'case':
      return [node.operand, ...node.branches.flatMap(({ when, then }) => [when, then]), node.otherwise].filter(
        (part) => part !== null,
      )
    case 'call':
      return node.args
    default:
      return []
  }
}
