import type { Execution, Place } from '../extract/facts.js'

/** The statements of a SQL file, without psql's own commands and the rows of a COPY. */
export function readSqlFile(text: string): Execution[] {
  const executions: Execution[] = []
  const lineStarts = [0]
  for (let at = text.indexOf('\n'); at >= 0; at = text.indexOf('\n', at + 1)) lineStarts.push(at + 1)
  const placeOf = (from: number, to: number): Place => ({ ...pointOf(lineStarts, from), ...endOf(lineStarts, to) })
  let start = startOf(text, 0)
  /** How many parentheses are open in the statement, up to `counted`. */
  let open = 0
  let counted = 0
  const beginAt = (at: number) => {
    start = startOf(text, at)
    open = 0
  }
  const endAt = (end: number) => {
    const statement = text.slice(start, end).trimEnd()
    if (statement === '') return
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
    for (const sign of text.slice(counted, found.index)) open += sign === '(' ? 1 : sign === ')' ? -1 : 0
    if (token === ';') {
      // What a rule does may be several statements, in parentheses.
      if (open <= 0 || !beginsRule(text, start)) {
        endAt(found.index)
        beginAt(TOKENS.lastIndex)
      }
    } else if (token === '/*') {
      TOKENS.lastIndex = endOfComment(text, found.index) ?? text.length
    } else if (token.trimStart().startsWith('\\')) {
      if (start < found.index) endAt(found.index)
      beginAt(TOKENS.lastIndex)
    } else if (/^copy/i.test(token) && found.index === start) {
      const end = text.indexOf(';', start)
      if (end < 0 || !/\sfrom\s+stdin\b/i.test(text.slice(start, end))) continue
      // The rows of a COPY stand behind it, up to a line of their own.
      const last = text.indexOf('\n\\.', end)
      TOKENS.lastIndex = last < 0 ? text.length : last + 3
      beginAt(TOKENS.lastIndex)
    } else if (/^\$(?:\w*)\$$/.test(token)) {
      const end = text.indexOf(token, TOKENS.lastIndex)
      TOKENS.lastIndex = end < 0 ? text.length : end + token.length
    }
    counted = TOKENS.lastIndex
  }
  endAt(text.length)
  return executions
}

const LEAD = /(?:\s|--[^\n]*(?:\n|$))*/y

/** Where the statement begins that stands behind `at`, without the comments before it. */
function startOf(text: string, at: number): number {
  let start = at
  for (;;) {
    LEAD.lastIndex = start
    start += LEAD.exec(text)?.[0].length ?? 0
    const end = text.startsWith('/*', start) ? endOfComment(text, start) : start
    // One that nobody closed is what is wrong with the statement.
    if (end === undefined || end === start) return start
    start = end
  }
}

/** Where a comment ends that begins at `at`: with as many ends as it has beginnings (PostgreSQL, "Comments"); undefined where it has not. */
function endOfComment(text: string, at: number): number | undefined {
  SIGNS.lastIndex = at
  let depth = 0
  for (let found = SIGNS.exec(text); found; found = SIGNS.exec(text)) {
    depth += found[0] === '/*' ? 1 : -1
    if (depth === 0) return SIGNS.lastIndex
  }
  return undefined
}

const SIGNS = /\/\*|\*\//g

function beginsRule(text: string, at: number): boolean {
  return /^create\s+(?:or\s+replace\s+)?rule\s/i.test(text.slice(at, at + 200))
}

const TOKENS =
  /[eE]'(?:[^'\\]|\\[\s\S]|'')*'|'(?:[^']|'')*'|"(?:[^"]|"")*"|--[^\n]*|\/\*|\$[\p{L}_]?[\p{L}\p{N}_]*\$|(?<=^|\n)[ \t]*\\[^\n]*|\bcopy\b|;/giu

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
