/** An expression as it was read: names are not resolved yet. `at` is the offset of its first character. */
export type Expression = { at: number } & (
  | { kind: 'literal'; of: 'text' | 'number' | 'boolean' | 'null'; text: string }
  | { kind: 'path'; names: string[] }
  | { kind: 'unary'; operator: 'not' | '-' | '+'; operand: Expression }
  | { kind: 'binary'; operator: string; left: Expression; right: Expression }
  | { kind: 'is'; operand: Expression; test: 'null' | 'true' | 'false'; negated: boolean }
  | { kind: 'distinct'; left: Expression; right: Expression; negated: boolean }
  | { kind: 'in'; operand: Expression; items: Expression[]; negated: boolean }
  | { kind: 'between'; operand: Expression; low: Expression; high: Expression; negated: boolean }
  | { kind: 'case'; branches: { when: Expression; then: Expression }[]; otherwise: Expression | null }
  | { kind: 'cast'; operand: Expression; type: string }
  | { kind: 'call'; name: string; args: Expression[] }
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
