import { expressionProblem } from './expression-problem.js'

export interface Token {
  /** `quoted` is a name in double quotes: it is never a word of the language. */
  kind: 'name' | 'quoted' | 'parameter' | 'text' | 'number' | 'sign' | 'end'
  text: string
  at: number
}

/** More than a person writes, and little enough to be read at once. */
const LONGEST = 10_000

const PATTERNS: [Token['kind'] | 'space', RegExp][] = [
  ['space', /\s+/y],
  ['number', /(?:\d+(?:\.\d*)?|\.\d+)(?:[eE][+-]?\d+)?/y],
  ['name', /[\p{L}_][\p{L}\p{N}_]*/uy],
  ['quoted', /"(?:[^"]|"")+"/y],
  ['parameter', /:[\p{L}_][\p{L}\p{N}_]*/uy],
  ['text', /'(?:[^']|'')*'/y],
  ['sign', /->>|->|<=|>=|<>|!=|\|\||[-+*/%=<>(),.]/y],
]

/**
 * Splits an expression into tokens.
 *
 * @throws LedgermanProblem expression-invalid with the place.
 */
export function readTokens(source: string): Token[] {
  if (source.length > LONGEST)
    throw expressionProblem(source.slice(0, 40), 0, `The expression is longer than ${LONGEST} characters`)
  const unstorable = /\0|\p{Surrogate}/u.exec(source)
  if (unstorable)
    throw expressionProblem(
      source,
      unstorable.index,
      unstorable[0] === '\0' ? 'PostgreSQL cannot hold U+0000' : 'Half a surrogate pair is no character',
    )
  const tokens: Token[] = []
  let at = 0
  while (at < source.length) {
    const [kind, text] = readOne(source, at)
    if (kind !== 'space') tokens.push({ kind, text: contentOf(kind, text), at })
    at += text.length
  }
  return [...tokens, { kind: 'end', text: '', at: source.length }]
}

function contentOf(kind: Token['kind'], text: string): string {
  if (kind === 'text') return text.slice(1, -1).replaceAll("''", "'")
  if (kind === 'quoted') return text.slice(1, -1).replaceAll('""', '"')
  return kind === 'parameter' ? text.slice(1) : text
}

function readOne(source: string, at: number): [Token['kind'] | 'space', string] {
  for (const [kind, pattern] of PATTERNS) {
    pattern.lastIndex = at
    const found = pattern.exec(source)
    if (found) return [kind, found[0]]
  }
  if (source[at] === "'") throw expressionProblem(source, at, 'This text is not closed; expected another quote')
  if (source[at] === '"') throw expressionProblem(source, at, 'This name is not closed; expected another double quote')
  const sign = Object.keys(ELSEWHERE).find((each) => source.startsWith(each, at)) ?? source.slice(at, at + 1)
  throw expressionProblem(source, at, `${JSON.stringify(sign)} has no meaning here`, ELSEWHERE[sign])
}

/** What other languages, or SQL itself, write otherwise. */
const ELSEWHERE: Readonly<Record<string, string>> = {
  '&&': 'Write and.',
  '::': 'Write cast(value as type).',
  '!~': 'Write not like, or not ilike.',
  '!': 'Write not, or <> to compare.',
  '~': 'Write like or ilike.',
  ';': 'An expression ends without it.',
  '`': 'A name with other signs in it stands in double quotes, a text in single quotes.',
}
