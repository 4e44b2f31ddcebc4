/** What is wrong with the type of a json property. */
export class JsonTypeError extends Error {
  override readonly name = 'JsonTypeError'
}

const WORDS = new Set(['string', 'number', 'boolean', 'null', 'unknown', 'true', 'false'])
const TOKEN =
  /\s*(?:([\p{ID_Start}_$][\p{ID_Continue}$]*)|('(?:[^'\\\n]|\\.)*'|"(?:[^"\\\n]|\\.)*")|(-?\d+(?:\.\d+)?)|([{}[\]()<>|;:,?]))/uy
const DEEPEST = 20

interface Part {
  text: string
  /** Whether it needs parentheses in front of []. */
  isUnion: boolean
}

/**
 * Reads the type of a json property, as TypeScript writes it: `{ binning: number; readout?: 'slow' | 'fast' }`. Objects, lists, unions,
 * literals and `Record<string, …>`; nothing that would have to be declared elsewhere. It goes into written code as it is
 * returned, so nothing else may stand in it.
 *
 * @throws JsonTypeError with the character where it stops making sense.
 */
export function readJsonType(source: string): string {
  const tokens = tokensOf(source)
  let at = 0
  const { text } = union(0)
  if (at < tokens.length) throw unexpected('the end')
  return text

  function union(depth: number): Part {
    if (depth > DEEPEST) throw new JsonTypeError(`it is nested more than ${DEEPEST} levels deep`)
    take('|')
    const parts = [list(depth)]
    while (take('|')) parts.push(list(depth))
    return parts.length === 1 && parts[0]
      ? parts[0]
      : { text: parts.map((each) => each.text).join(' | '), isUnion: true }
  }

  function list(depth: number): Part {
    let part = one(depth)
    while (take('[')) {
      need(']')
      part = { text: part.isUnion ? `(${part.text})[]` : `${part.text}[]`, isUnion: false }
    }
    return part
  }

  function one(depth: number): Part {
    const token = tokens[at]
    if (token === undefined) throw unexpected('a type')
    if (take('{')) return { text: object(depth + 1), isUnion: false }
    if (take('(')) {
      const inner = union(depth + 1)
      need(')')
      return inner
    }
    at++
    if (token.text === 'Record') {
      need('<')
      need('string')
      need(',')
      const value = take('never') ? 'never' : union(depth + 1).text
      need('>')
      return { text: `Record<string, ${value}>`, isUnion: false }
    }
    if (token.isName ? WORDS.has(token.text) : /^['"\d-]/.test(token.text)) return { text: token.text, isUnion: false }
    at--
    throw unexpected('string, number, boolean, null, unknown, a literal, { … }, or Record<string, …>')
  }

  function object(depth: number): string {
    const members: string[] = []
    while (!take('}')) {
      const token = tokens[at++]
      if (!token || (!token.isName && !/^['"]/.test(token.text))) {
        at--
        throw unexpected('the name of a member')
      }
      const mark = take('?') ? '?' : ''
      need(':')
      members.push(`${token.text}${mark}: ${union(depth).text}`)
      if (!take(';') && !take(',') && tokens[at]?.text !== '}') throw unexpected('; or }')
    }
    return members.length === 0 ? 'Record<string, never>' : `{ ${members.join('; ')} }`
  }

  function take(text: string): boolean {
    if (tokens[at]?.text !== text) return false
    at++
    return true
  }

  function need(text: string): void {
    if (!take(text)) throw unexpected(text)
  }

  function unexpected(expected: string): JsonTypeError {
    const token = tokens[at]
    const got = token ? `got ${token.text} at character ${token.at + 1}` : 'got its end'
    return new JsonTypeError(`expected ${expected}, ${got}`)
  }
}

function tokensOf(source: string): { text: string; at: number; isName: boolean }[] {
  const tokens = []
  const text = source.trimEnd()
  let from = 0
  while (from < text.length) {
    TOKEN.lastIndex = from
    const found = TOKEN.exec(text)
    if (!found) throw new JsonTypeError(`${JSON.stringify(text.slice(from).trimStart()[0])} has no meaning in it`)
    from = TOKEN.lastIndex
    const token = found[0].trimStart()
    tokens.push({ text: token, at: from - token.length, isName: found[1] !== undefined })
  }
  return tokens
}
