import type { Execution, Place } from '../extract/facts.js'

/** The statements of a SQL file, and lines of psql's own commands, which are skipped. */
export function readSqlFile(text: string): { executions: Execution[]; skipped: Place[] } {
  const executions: Execution[] = []
  const skipped: Place[] = []
  const lineStarts = [0]
  for (let at = text.indexOf('\n'); at >= 0; at = text.indexOf('\n', at + 1)) lineStarts.push(at + 1)
  const placeOf = (from: number, to: number): Place => ({ ...pointOf(lineStarts, from), ...endOf(lineStarts, to) })
  let begin = 0
  const push = (from: number, to: number) => {
    const body = text.slice(from, to)
    const lead = /^(?:\s|--[^\n]*(?:\n|$)|\/\*[\s\S]*?\*\/)*/.exec(body)?.[0].length ?? 0
    const statement = body.slice(lead).trimEnd()
    if (statement === '') return
    const start = from + lead
    const place = placeOf(start, start + statement.length)
    executions.push({
      language: 'sql',
      place,
      parts: [{ text: statement, place }],
      bound: { kind: 'unknown' },
      method: '',
      receiver: '',
      handle: null,
      runs: [],
      loop: null,
      roundNames: null,
      arms: [],
      endsPath: false,
      at: start,
      fn: null,
    })
  }
  TOKENS.lastIndex = 0
  for (let found = TOKENS.exec(text); found; found = TOKENS.exec(text)) {
    const [token] = found
    if (token === ';') {
      // What a rule does may be several statements, in parentheses.
      if (isInRule(text.slice(begin, found.index))) continue
      push(begin, found.index)
      begin = TOKENS.lastIndex
    } else if (token.startsWith('\\')) {
      const isLine = text.slice(begin, found.index).trim() === ''
      if (!isLine) push(begin, found.index)
      skipped.push(placeOf(found.index, found.index + token.length))
      begin = TOKENS.lastIndex
    } else if (/^copy\s[\s\S]*from\s+stdin/i.test(token)) {
      // The rows of a COPY stand behind it, up to a line of their own.
      const end = text.indexOf('\n\\.', TOKENS.lastIndex)
      begin = TOKENS.lastIndex = end < 0 ? text.length : end + 3
    } else if (/^\$(?:\w*)\$$/.test(token)) {
      const end = text.indexOf(token, TOKENS.lastIndex)
      TOKENS.lastIndex = end < 0 ? text.length : end + token.length
    }
  }
  push(begin, text.length)
  return { executions, skipped }
}

/** Whether a text begins a rule whose list of statements is still open. */
function isInRule(text: string): boolean {
  if (!/^(?:\s|--[^\n]*\n)*create\s+(?:or\s+replace\s+)?rule\s/i.test(text)) return false
  const bare = text.replace(/'(?:[^']|'')*'|"(?:[^"]|"")*"|--[^\n]*/g, '')
  return (bare.match(/\(/g)?.length ?? 0) > (bare.match(/\)/g)?.length ?? 0)
}

const TOKENS =
  /[eE]'(?:[^'\\]|\\[\s\S]|'')*'|'(?:[^']|'')*'|"(?:[^"]|"")*"|--[^\n]*|\/\*[\s\S]*?\*\/|\$[\p{L}_]?[\p{L}\p{N}_]*\$|(?<=^|\n)[ \t]*\\[^\n]*|\bcopy\s[^;]*?from\s+stdin[^;]*;|;/giu

function pointOf(starts: readonly number[], at: number): { line: number; column: number } {
  let [low, high] = [0, starts.length - 1]
  while (low < high) {
    const middle = (low + high + 1) >> 1
    if ((starts[middle] ?? 0) <= at) low = middle
    else high = middle - 1
  }
  return { line: low + 1, column: at - (starts[low] ?? 0) + 1 }
}

function endOf(starts: readonly number[], at: number): { endLine: number; endColumn: number } {
  const { line, column } = pointOf(starts, at)
  return { endLine: line, endColumn: column }
}
