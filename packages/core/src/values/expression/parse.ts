import { suggestName } from '@ledgerman/contract'
import { COMPARISONS, FUNCTIONS, type Expression } from './expression.js'
import { expressionProblem } from './expression-problem.js'
import { readTokens, type Token } from './tokens.js'

const DEEPEST = 100

/** How many calculations may follow one another: each is a level of its own, here and in the server. */
const LONGEST_CHAIN = 1_600
const RESERVED = new Set([
  'and',
  'or',
  'not',
  'is',
  'in',
  'between',
  'like',
  'ilike',
  'null',
  'true',
  'false',
  'case',
  'when',
  'then',
  'else',
  'end',
  'distinct',
  'from',
  'as',
])

/** What may have been meant by two tokens that do not go together. */
function adviceFor(before: Token | undefined, { kind, text, at }: Token): string | undefined {
  if (!before) return undefined
  if (text === '=' && before.text === '=' && before.at === at - 1) return 'Write one = to compare.'
  if (kind === 'text' && before.kind === 'name' && !RESERVED.has(before.text.toLowerCase()))
    return `A value of a type is written cast('${text}' as ${before.text}).`
  return undefined
}

/**
 * Reads an expression: a subset of SQL's own, with its precedence (PostgreSQL, "Operator Precedence"): or, and, not, is,
 * comparison, in/between/like, other operators, + and -, * / %, sign.
 *
 * @throws LedgermanProblem expression-invalid with the place and what was expected there.
 */
export function parseExpression(source: string): Expression {
  const tokens = readTokens(source)
  let next = 0
  let depth = 0
  const expression = readOr()
  if (peek().kind !== 'end') throw wanted('an operator or the end')
  return expression

  function readOr(): Expression {
    if (++depth > DEEPEST)
      throw expressionProblem(source, peek().at, `The expression is nested more than ${DEEPEST} levels deep`)
    const result = joined('or', () => joined('and', readNot))
    depth--
    return result
  }

  function readNot(): Expression {
    const { at } = peek()
    if (!take('not')) return readIs()
    if (++depth > DEEPEST)
      throw expressionProblem(source, at, `The expression is nested more than ${DEEPEST} levels deep`)
    const operand = readNot()
    depth--
    return { kind: 'unary', operator: 'not', operand, at }
  }

  function readIs(): Expression {
    let left = readComparison()
    while (take('is')) {
      const { at } = left
      const negated = take('not')
      if (take('distinct')) {
        need('from')
        left = { kind: 'distinct', left, right: readComparison(), negated, at }
      } else {
        const test = (['null', 'true', 'false'] as const).find((word) => take(word))
        if (!test) throw wanted('null, true, false or distinct from')
        left = { kind: 'is', operand: left, test, negated, at }
      }
    }
    return left
  }

  function readComparison(): Expression {
    const left = readMembership()
    const operatorAt = peek().at
    const sign = COMPARISONS.find((each) => take(each))
    if (!sign) return left
    const operator = sign === '!=' ? '<>' : sign
    const of = (['any', 'all'] as const).find((word) => isWord(word) && tokens[next + 1]?.text === '(')
    const right = of ? readList() : isWord('not') ? readNot() : readMembership()
    const other = COMPARISONS.find((each) => peek().text === each && peek().kind === 'sign')
    if (other) throw expressionProblem(source, peek().at, 'Comparisons cannot be chained; join them with and')
    if ([left, right].some((side) => side.kind === 'literal' && side.of === 'null')) {
      throw expressionProblem(source, left.at, `Nothing is ${sign} null; use is null or is not null`)
    }
    if (of) return { kind: 'quantified', operator, of, operand: left, list: right, at: left.at, operatorAt }
    return { kind: 'binary', operator, left, right, at: left.at, operatorAt }
  }

  /** What stands in `any (…)` or `all (…)`. */
  function readList(): Expression {
    next++
    need('(')
    const list = readOr()
    need(')')
    return list
  }

  function readMembership(): Expression {
    const operand = readJoined()
    const { at } = operand
    const negated =
      isWord('not') &&
      tokens[next + 1]?.kind === 'name' &&
      ['in', 'between', 'like', 'ilike'].includes(tokens[next + 1]?.text.toLowerCase() ?? '') &&
      take('not')
    const inAt = peek().at
    if (take('in')) {
      const list = peek()
      if (list.kind === 'parameter') {
        next++
        // As SQL defines it: `in` is `= any`, and `not in` is `<> all`.
        const [operator, of] = negated ? (['<>', 'all'] as const) : (['=', 'any'] as const)
        const listed: Expression = { kind: 'parameter', name: list.text, at: list.at }
        return { kind: 'quantified', operator, of, operand, list: listed, at, operatorAt: inAt }
      }
      if (!take('(')) throw wanted('( or a parameter such as :list')
      const items = [readItem()]
      while (take(',')) items.push(readItem())
      need(')')
      return { kind: 'in', operand, items, negated, at }
    }
    if (take('between')) {
      const low = readJoined()
      need('and')
      return { kind: 'between', operand, low, high: readJoined(), negated, at }
    }
    const operatorAt = peek().at
    const like = (['like', 'ilike'] as const).find((word) => take(word))
    if (!like) return operand
    const match: Expression = { kind: 'binary', operator: like, left: operand, right: readJoined(), at, operatorAt }
    return negated ? { kind: 'unary', operator: 'not', operand: match, at } : match
  }

  /** One of a list: a null among them would make `not in` true of nothing at all. */
  function readItem(): Expression {
    const item = readOr()
    if (item.kind === 'literal' && item.of === 'null')
      throw expressionProblem(source, item.at, 'Nothing is in a list for being null; use is null beside it')
    return item
  }

  function readJoined(): Expression {
    return leftToRight(['||', '->', '->>'], () =>
      leftToRight(['+', '-'], () => leftToRight(['*', '/', '%'], readSigned)),
    )
  }

  function readSigned(): Expression {
    const { at } = peek()
    const operator = (['-', '+'] as const).find((sign) => take(sign))
    if (!operator) return readOperand()
    if (++depth > DEEPEST)
      throw expressionProblem(source, at, `The expression is nested more than ${DEEPEST} levels deep`)
    const operand = readSigned()
    depth--
    return { kind: 'unary', operator, operand, at }
  }

  function readOperand(): Expression {
    const token = peek()
    const { at } = token
    if (token.kind === 'number' || token.kind === 'text') {
      next++
      return { kind: 'literal', of: token.kind, text: token.text, at }
    }
    if (token.kind === 'parameter') {
      next++
      return { kind: 'parameter', name: token.text, at }
    }
    if (take('(')) {
      const inside = readOr()
      need(')')
      return inside
    }
    if (take('null')) return { kind: 'literal', of: 'null', text: 'null', at }
    const truth = (['true', 'false'] as const).find((word) => take(word))
    if (truth) return { kind: 'literal', of: 'boolean', text: truth, at }
    if (take('case')) return readCase(at)
    const isName = token.kind === 'quoted' || (token.kind === 'name' && !RESERVED.has(token.text.toLowerCase()))
    if (!isName) throw wanted('a value, a property or (')
    next++
    if (token.kind === 'name' && isSign('(')) return readCall(token)
    const names = [token.text]
    while (take('.')) names.push(needName())
    return { kind: 'path', names, at }
  }

  function readCase(at: number): Expression {
    const branches: { when: Expression; then: Expression }[] = []
    const operand = isWord('when') ? null : readOr()
    while (take('when')) {
      const when = readOr()
      need('then')
      branches.push({ when, then: readOr() })
    }
    const never = operand && branches.find(({ when }) => when.kind === 'literal' && when.of === 'null')
    if (never) throw expressionProblem(source, never.when.at, `Nothing is = null; write case when … is null then …`)
    if (branches.length === 0) throw wanted('when')
    const otherwise = take('else') ? readOr() : null
    need('end')
    return { kind: 'case', operand, branches, otherwise, at }
  }

  function readCall({ text, at }: Token): Expression {
    const name = text.toLowerCase()
    need('(')
    if (name === 'cast') {
      const operand = readOr()
      need('as')
      const type = needName()
      need(')')
      return { kind: 'cast', operand, type, at }
    }
    if (name === 'exists' || name === 'count') return readLinked(name, at)
    if (name === 'changed' || name === 'matched') {
      const step = needName()
      need(')')
      return { kind: 'outcome', of: name, name: step, at }
    }
    if (name === 'any' || name === 'all')
      throw expressionProblem(source, at, `${name}(…) stands behind a comparison: 'imaging' = ${name}(tags)`)
    const limits = FUNCTIONS[name]
    if (!limits || !Object.hasOwn(FUNCTIONS, name))
      throw expressionProblem(
        source,
        at,
        `Unknown function ${text}. ${suggestName(text, [...Object.keys(FUNCTIONS), 'exists', 'count', 'cast'])}`,
      )
    const args: Expression[] = []
    if (!isSign(')')) {
      if (name === 'extract') {
        args.push({ kind: 'literal', of: 'text', text: needName(), at })
        need('from')
        args.push(readOr())
      } else
        do args.push(readOr())
        while (take(','))
    }
    if (isWord('from') || isWord('for')) throw wanted(')', 'Separate what a function is given by commas.')
    need(')')
    const [least, most] = limits
    if (args.length < least || args.length > most) {
      const count = least === most ? String(least) : `${least} to ${most}`
      throw expressionProblem(source, at, `${text} takes ${count} argument${most === 1 ? '' : 's'}, not ${args.length}`)
    }
    return { kind: 'call', name, args, at }
  }

  function readLinked(of: 'exists' | 'count', at: number): Expression {
    const link = needName()
    if (isSign(','))
      throw expressionProblem(source, peek().at, `Say where before the condition: ${of}(${link} where …)`)
    const condition = take('where') ? readOr() : null
    need(')')
    return { kind: 'linked', of, link, condition, at }
  }

  /** Conditions that belong together in any order are halved, so that many of them are not as many levels. */
  function joined(operator: 'and' | 'or', readSide: () => Expression): Expression {
    const sides = [readSide()]
    const places: number[] = []
    for (let { at } = peek(); take(operator); at = peek().at) {
      places.push(at)
      sides.push(readSide())
    }
    return half(0, sides.length - 1)

    function half(from: number, to: number): Expression {
      if (from === to) return sides[from] as Expression
      const middle = Math.floor((from + to) / 2)
      const left = half(from, middle)
      const right = half(middle + 1, to)
      return { kind: 'binary', operator, left, right, at: left.at, operatorAt: places[middle] ?? left.at }
    }
  }

  function leftToRight(operators: string[], readSide: () => Expression): Expression {
    let left = readSide()
    for (let length = 0; ; length++) {
      const operatorAt = peek().at
      const operator = operators.find((sign) => take(sign))
      if (!operator) return left
      if (length === LONGEST_CHAIN)
        throw expressionProblem(source, operatorAt, `More than ${LONGEST_CHAIN} calculations follow one another`)
      left = { kind: 'binary', operator, left, right: readSide(), at: left.at, operatorAt }
    }
  }

  function peek(): Token {
    return tokens[next] as Token
  }

  function take(word: string): boolean {
    const { kind, text } = peek()
    if (
      kind === 'text' ||
      kind === 'number' ||
      kind === 'parameter' ||
      kind === 'quoted' ||
      (kind === 'name' ? text.toLowerCase() : text) !== word
    )
      return false
    next++
    return true
  }

  function isWord(word: string): boolean {
    return peek().kind === 'name' && peek().text.toLowerCase() === word
  }

  function isSign(text: string): boolean {
    return peek().kind === 'sign' && peek().text === text
  }

  function need(word: string): void {
    if (!take(word)) throw wanted(word)
  }

  function needName(): string {
    const token = peek()
    if (token.kind !== 'name' && token.kind !== 'quoted') throw wanted('a name')
    next++
    return token.text
  }

  function wanted(what: string, advice = adviceFor(tokens[next - 1], peek())) {
    const { kind, text, at } = peek()
    const got = { end: 'the end', parameter: `:${text}`, text: `'${text}'` }[kind as 'end'] ?? text
    return expressionProblem(source, at, `Expected ${what}, got ${got}`, advice)
  }
}
