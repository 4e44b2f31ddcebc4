import fc from 'fast-check'

// Conditions with an evaluation of their own: SQL's three-valued logic, written out (SQL:2016, "boolean value expression").

export interface Row {
  id: number
  n: number | null
  word: string | null
  exact: number | null
  flag: boolean | null
}

type Truth = boolean | null

export interface Term<T> {
  source: string
  evaluate: (row: Row) => T | null
  /** Texts that must not stand in the statement. */
  literals: string[]
}

const number: fc.Arbitrary<Term<number>> = fc.letrec<{ any: Term<number> }>((tie) => ({
  any: fc.oneof(
    { maxDepth: 3, withCrossShrink: true },
    fc.constant<Term<number>>({ source: 'n', evaluate: (row) => row.n, literals: [] }),
    fc.constant<Term<number>>({ source: 'exact', evaluate: (row) => row.exact, literals: [] }),
    fc.integer({ min: -30, max: 30 }).map((value) => ({ source: String(value), evaluate: () => value, literals: [] })),
    fc
      .integer({ min: 7_000_000, max: 7_999_999 })
      .map((value) => ({ source: String(value), evaluate: () => value, literals: [String(value)] })),
    fc.tuple(tie('any'), fc.constantFrom('+', '-'), tie('any')).map(([left, sign, right]) => ({
      source: `(${left.source} ${sign} ${right.source})`,
      evaluate: (row: Row) => both(left.evaluate(row), right.evaluate(row), (a, b) => (sign === '+' ? a + b : a - b)),
      literals: [...left.literals, ...right.literals],
    })),
    fc.tuple(tie('any'), tie('any')).map(([left, right]) => ({
      source: `coalesce(${left.source}, ${right.source})`,
      evaluate: (row: Row) => left.evaluate(row) ?? right.evaluate(row),
      literals: [...left.literals, ...right.literals],
    })),
  ),
})).any

const text: fc.Arbitrary<Term<string>> = fc.oneof(
  fc.constant<Term<string>>({ source: 'word', evaluate: (row) => row.word, literals: [] }),
  fc.constantFrom('w3', 'w10', `zq'x`, 'zq"$1', 'zq :n \\').map((value) => ({
    source: `'${value.replaceAll("'", "''")}'`,
    evaluate: () => value,
    literals: value.startsWith('zq') ? [value] : [],
  })),
)

export const anyCondition: fc.Arbitrary<Term<boolean>> = fc.letrec<{ any: Term<boolean> }>((tie) => ({
  any: fc.oneof(
    { maxDepth: 4, withCrossShrink: true },
    comparison(number),
    comparison(text),
    fc.constant<Term<boolean>>({ source: 'flag', evaluate: (row) => row.flag, literals: [] }),
    fc.tuple(fc.oneof(number, text), fc.boolean()).map(([operand, negated]) => ({
      source: `${operand.source} is ${negated ? 'not ' : ''}null`,
      evaluate: (row: Row) => (operand.evaluate(row) === null) !== negated,
      literals: operand.literals,
    })),
    fc
      .tuple(number, fc.array(number, { minLength: 1, maxLength: 3 }), fc.boolean())
      .map(([operand, items, negated]) => ({
        source: `${operand.source} ${negated ? 'not ' : ''}in (${items.map(({ source }) => source).join(', ')})`,
        evaluate: (row: Row) => {
          const found = items
            .map((item) => both(operand.evaluate(row), item.evaluate(row), (a, b) => a === b))
            .reduce<Truth>(or, false)
          return negated ? not(found) : found
        },
        literals: [...operand.literals, ...items.flatMap(({ literals }) => literals)],
      })),
    fc.tuple(tie('any'), fc.constantFrom('and', 'or'), tie('any')).map(([left, word, right]) => ({
      source: `(${left.source} ${word} ${right.source})`,
      evaluate: (row: Row) => (word === 'and' ? and : or)(left.evaluate(row), right.evaluate(row)),
      literals: [...left.literals, ...right.literals],
    })),
    tie('any').map((inner) => ({
      source: `not (${inner.source})`,
      evaluate: (row: Row) => not(inner.evaluate(row)),
      literals: inner.literals,
    })),
    fc.tuple(tie('any'), fc.boolean()).map(([inner, negated]) => ({
      source: `(${inner.source}) is ${negated ? 'not ' : ''}true`,
      evaluate: (row: Row) => (inner.evaluate(row) === true) !== negated,
      literals: inner.literals,
    })),
  ),
})).any

function comparison<T extends number | string>(term: fc.Arbitrary<Term<T>>): fc.Arbitrary<Term<boolean>> {
  // Order among texts is the collation's; only equality has one meaning everywhere.
  return fc.tuple(term, fc.constantFrom('=', '<>', 'is distinct from', '<', '>='), term).map(([left, sign, right]) => {
    const isText = /^'|^word/.test(left.source)
    const operator = isText && (sign === '<' || sign === '>=') ? '=' : sign
    return {
      source: `${left.source} ${operator} ${right.source}`,
      evaluate: (row: Row) => {
        const [a, b] = [left.evaluate(row), right.evaluate(row)]
        if (operator === 'is distinct from') return a !== b
        return both<T, boolean>(a, b, (one, other) =>
          operator === '='
            ? one === other
            : operator === '<>'
              ? one !== other
              : operator === '<'
                ? one < other
                : one >= other,
        )
      },
      literals: [...left.literals, ...right.literals],
    }
  })
}

function both<T, R>(one: T | null, other: T | null, of: (one: T, other: T) => R): R | null {
  return one === null || other === null ? null : of(one, other)
}

function and(one: Truth, other: Truth): Truth {
  return one === false || other === false ? false : one === null || other === null ? null : true
}

function or(one: Truth, other: Truth): Truth {
  return one === true || other === true ? true : one === null || other === null ? null : false
}

function not(truth: Truth): Truth {
  return truth === null ? null : !truth
}
