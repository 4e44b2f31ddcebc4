import type { PlaceholderStyle } from '@ledgerman/contract'
import type { Execution, Part, Place } from '../extract/facts.js'
import type { SourceLanguage } from '../extract/grammar.js'

/** A place for a value, as the program wrote it. */
export interface Placeholder {
  /** As it stands: `?`, `:code`, `$2`. */
  written: string
  style: PlaceholderStyle
  /** Null of one without a name. */
  name: string | null
  /** The n of PostgreSQL's $n that it became. */
  number: number
  /** Its place in the text as it was written, in characters. */
  at: number
}

/** A value that was pasted into the text. */
export interface Pasted {
  value: string
  how: 'interpolation' | 'concatenation' | 'format'
  place: Place
  /** Whether it stands between quotes. */
  isQuoted: boolean
  /** Whether it stands where only a name can. */
  isName: boolean
  /** Whether it stands where a part of the statement does: a condition, an assignment, a list of rows. */
  isFragment: boolean
  /** What it can only be. */
  safe: 'number' | 'name' | 'quoted' | undefined
}

/** A statement as PostgreSQL reads it. */
export interface ReadText {
  /** With $n for each placeholder, and for each pasted value outside quotes. */
  text: string
  /** The same, with a name in place of a pasted value: it may be that of a table. */
  asNames: string
  placeholders: Placeholder[]
  pasted: Pasted[]
  /** Whether the program puts the number or name of a placeholder in as it runs: how many there are is not known then. */
  hasBuiltPlaceholders: boolean
  /** Which pasted value a $n stands for, by its place among them. */
  numberOfPasted: ReadonlyMap<number, number>
  /** Where a character of `text` stands in the file. */
  placeAt: (offset: number) => Place
}

/** Stands for a name that is put into the text. */
export const PASTED_NAME = 'ledgerman_value'

const OPEN = '\ue000'
const CLOSE = '\ue001'

const STYLES: Readonly<Record<SourceLanguage, readonly PlaceholderStyle[]>> = {
  sql: ['dollar', 'colon'],
  typescript: ['dollar', 'question', 'colon'],
  tsx: ['dollar', 'question', 'colon'],
  javascript: ['dollar', 'question', 'colon'],
  python: ['percent', 'percent-named', 'dollar', 'colon', 'question'],
  php: ['question', 'colon', 'dollar', 'percent'],
  java: ['question', 'colon'],
  csharp: ['at', 'colon', 'dollar'],
}

/** Words that a name follows, and a name's own beginning. */
const NAME_COMES = /(?:\b(?:from|into|update|join|table|only|using|order\s+by|group\s+by|as|set)\s+["`]?|["`.]|\w)$/i

/** Where a column stands before what it is compared with, or set to. */
const COLUMN_COMES = /\b(?:where|and|or|not|on|set|having)[\s(]*$|\bset\s[^;]*,\s*$/i
const COMPARES = /^\s*(?:=|<|>|!=|~|(?:not\s+)?(?:i?like|in|between)\b|is\b)/i

/** Inside the list of an INSERT's columns. */
const IN_COLUMN_LIST = /\binsert\s+into\s+[^\s(]+\s*\([^()]*$/i

/** Behind a comma in the list of tables of a FROM. */
const IN_TABLE_LIST = /\bfrom\s(?:(?!\b(?:where|on|group|order|having|limit|set|select)\b)[^()';])*,\s*$/i

/** Where a whole condition, an assignment or a list of rows may stand: what comes before it, and behind it. */
const FRAGMENTS: readonly (readonly [comes: RegExp, ends: RegExp])[] = [
  [
    /(?:\b(?:where|and|or|on|having|not)[\s(]*|\b(?:where|and|or)\s[^()]*\ue001\s+)$/i,
    /^[\s)]*(?:$|\b(?:and|or|group|order|limit|union|returning|having)\b|\ue000|;)/i,
  ],
  [/\bset\s(?:[\s\S]*,)?\s*$/i, /^\s*(?:$|,|where\b|returning\b|\ue000|;)/i],
  [/\bvalues\s*$/i, /^\s*(?:$|,|on\s+conflict\b|returning\b|\ue000|;)/i],
  // Behind a value, with no operator between.
  [/(?:\?|%s|[:$@]\w+|')\s+$/, /^/],
]

/** Whether it stands where columns are selected. */
function isSelected(before: string, after: string): boolean {
  if (/\bselect\s+(?:distinct\s+)?$/i.test(before)) return /^\s*(?:,|from\b|\ue000)/i.test(after)
  // Behind a comma, and with no comma behind it: a list of columns that brings its own.
  return /\bselect\s(?:(?!\bfrom\b)[^;()'])*,\s*$/i.test(before) && /^\s+(?!as\b|from\b)(?:\ue000|\w)/i.test(after)
}

/** What PostgreSQL's scanner tells apart, and what may be a placeholder. */
const TOKENS =
  /[$:@]\w*\ue000(\d+)\ue001|[eE]'(?:[^'\\]|\\[\s\S]|'')*'|'(?:[^']|'')*'|"(?:[^"]|"")*"|--[^\n]*|\/\*[\s\S]*?(?:\*\/|$)|\$(?:[\p{L}_][\p{L}\p{N}_]*)?\$|\$(\d+)|%\((\w+)\)s|%%|(%[sdf](?!\w))|::|:=|:'?([\p{L}_][\p{L}\p{N}_]*)'?|(\?\d*)(?![|&?])|@([\p{L}_][\p{L}\p{N}_]*)|\ue000(\d+)\ue001|[\p{L}_][\p{L}\p{N}_$]*/gu

/** Puts a statement's parts together as PostgreSQL reads them. */
export function readText(
  { parts, language }: Pick<Execution, 'parts' | 'language'>,
  forced?: PlaceholderStyle,
): ReadText {
  const styles = forced ? [forced] : STYLES[language]
  const values = parts.filter((part) => 'value' in part)
  let count = 0
  const source = parts.map((part) => ('text' in part ? part.text : `${OPEN}${count++}${CLOSE}`)).join('')
  const placeholders: Placeholder[] = []
  const pasted: Pasted[] = []
  const named = new Map<string, number>()
  const numberOfPasted = new Map<number, number>()
  let hasBuiltPlaceholders = false
  const highest = Math.max(0, ...[...source.matchAll(/\$(\d{1,4})/g)].map(([, number]) => Number(number)))
  let next = styles.includes('dollar') && highest > 0 ? highest : 0
  const numberOf = (name: string | null): number => {
    if (name === null) return ++next
    let number = named.get(name)
    if (number === undefined) named.set(name, (number = ++next))
    return number
  }
  const pieces: { text: string; name: string; from: number }[] = []
  let from = 0
  const push = (text: string, name: string, at: number) => pieces.push({ text, name, from: at })
  TOKENS.lastIndex = 0
  for (let found = TOKENS.exec(source); found; found = TOKENS.exec(source)) {
    const [token, built, dollar, percentName, percent, colon, question, at, value] = found
    const isStringLike = /^(?:[eE]?'|"|--|\/\*)/.test(token) && colon === undefined
    const replace = (style: PlaceholderStyle, name: string | null, number = numberOf(name)) => {
      push(source.slice(from, found.index), source.slice(from, found.index), from)
      // Drivers of this style write a tuple with its parentheses.
      const isTuple =
        (style === 'percent' || (style === 'colon' && language === 'python')) &&
        /\bin\s*$/i.test(source.slice(Math.max(0, found.index - 6), found.index))
      const written = isTuple ? `($${number})` : `$${number}`
      push(written, written, found.index)
      placeholders.push({ written: token, style, name, number, at: found.index })
      from = TOKENS.lastIndex
    }
    const paste = (index: number, isQuoted: boolean) => {
      const part = values[index] as Extract<Part, { value: string }>
      const before = source.slice(Math.max(0, found.index - 200), found.index)
      const after = source.slice(TOKENS.lastIndex, TOKENS.lastIndex + 40)
      const isName =
        !isQuoted &&
        (NAME_COMES.test(before) ||
          /^[.(]/.test(after) ||
          IN_COLUMN_LIST.test(before) ||
          IN_TABLE_LIST.test(before) ||
          isSelected(before, after) ||
          (COLUMN_COMES.test(before) && COMPARES.test(after)))
      const isFragment = !isQuoted && FRAGMENTS.some(([comes, ends]) => comes.test(before) && ends.test(after))
      pasted.push({
        value: part.value,
        how: part.how,
        place: part.place,
        isQuoted,
        isName,
        isFragment,
        safe: part.safe,
      })
    }
    const whole = /^'\ue000(\d+)\ue001'$/.exec(token)
    if (built !== undefined && !source.slice(Math.max(0, found.index - 1), found.index).endsWith(':')) {
      hasBuiltPlaceholders = true
      push(source.slice(from, found.index), source.slice(from, found.index), from)
      push(`$${++next}`, `$${next}`, found.index)
      from = TOKENS.lastIndex
    } else if (whole) {
      // A literal that is nothing but the value is what a parameter would be.
      paste(Number(whole[1]), true)
      push(source.slice(from, found.index), source.slice(from, found.index), from)
      push(`$${++next}`, `$${next}`, found.index)
      numberOfPasted.set(next, pasted.length - 1)
      from = TOKENS.lastIndex
    } else if (isStringLike) {
      const inside = token.replace(new RegExp(`${OPEN}(\\d+)${CLOSE}`, 'g'), (_, index: string) => {
        paste(Number(index), token.startsWith("'") || /^[eE]'/.test(token))
        return token.startsWith('"') ? PASTED_NAME : 'x'
      })
      if (inside !== token) {
        push(source.slice(from, found.index), source.slice(from, found.index), from)
        push(inside, inside, found.index)
        from = TOKENS.lastIndex
      } else if (styles[0] === 'percent' && token.includes('%%')) {
        push(source.slice(from, found.index), source.slice(from, found.index), from)
        push(token.replaceAll('%%', '%'), token.replaceAll('%%', '%'), found.index)
        from = TOKENS.lastIndex
      }
    } else if (/^\$(?!\d)/.test(token)) {
      const end = source.indexOf(token, TOKENS.lastIndex)
      TOKENS.lastIndex = end < 0 ? source.length : end + token.length
    } else if (value !== undefined) {
      paste(Number(value), false)
      push(source.slice(from, found.index), source.slice(from, found.index), from)
      const before = source[found.index - 1] ?? ''
      const isPart = /[\w.]/.test(before) || /[\w.]/.test(source[TOKENS.lastIndex] ?? '')
      const isName =
        isPart ||
        /\b(?:from|into|update|join|table|only)\s+$/i.test(source.slice(Math.max(0, found.index - 20), found.index))
      push(isName ? PASTED_NAME : `$${++next}`, PASTED_NAME, found.index)
      if (!isName) numberOfPasted.set(next, pasted.length - 1)
      from = TOKENS.lastIndex
    } else if (dollar !== undefined && styles.includes('dollar')) replace('dollar', null, Number(dollar))
    else if (percentName !== undefined && styles.includes('percent-named')) replace('percent-named', percentName)
    else if (percent !== undefined && styles.includes('percent')) replace('percent', null)
    else if (token === '%%' && styles.includes('percent')) {
      push(source.slice(from, found.index), source.slice(from, found.index), from)
      push('%', '%', found.index)
      from = TOKENS.lastIndex
    } else if (colon !== undefined && styles.includes('colon') && !/[\w\])]/.test(source[found.index - 1] ?? ''))
      replace('colon', colon)
    else if (
      question !== undefined &&
      styles.includes('question') &&
      !/^\s*['"]/.test(source.slice(TOKENS.lastIndex, TOKENS.lastIndex + 3))
    )
      replace('question', null, question.length > 1 ? Number(question.slice(1)) : undefined)
    else if (at !== undefined && styles.includes('at')) replace('at', at)
  }
  push(source.slice(from), source.slice(from), from)
  const text = pieces.map((piece) => piece.text).join('')
  return {
    text,
    asNames: pieces.map((piece) => piece.name).join(''),
    placeholders,
    pasted,
    hasBuiltPlaceholders,
    numberOfPasted,
    placeAt: (offset) => placeIn(parts, sourceOffset(pieces, offset)),
  }
}

/** Where a character of the read text stands among the characters that were written. */
function sourceOffset(pieces: readonly { text: string; from: number }[], offset: number): number {
  let rest = offset
  for (const { text, from } of pieces) {
    if (rest < text.length) return from + rest
    rest -= text.length
  }
  return Number.MAX_SAFE_INTEGER
}

function placeIn(parts: readonly Part[], offset: number): Place {
  let rest = offset
  let values = 0
  for (const part of parts) {
    const length = 'text' in part ? part.text.length : `${OPEN}${values++}${CLOSE}`.length
    if (rest >= length) {
      rest -= length
      continue
    }
    if (!('text' in part)) return part.place
    const before = part.text.slice(0, rest)
    const lines = before.split('\n')
    const line = part.place.line + lines.length - 1
    const column = lines.length === 1 ? part.place.column + rest : (lines.at(-1)?.length ?? 0) + 1
    const word = /^[\w$".]+|^\S/.exec(part.text.slice(rest))?.[0] ?? ' '
    return { line, column, endLine: line, endColumn: column + word.length }
  }
  const last = parts.at(-1)?.place
  return last
    ? { ...last, line: last.endLine, column: Math.max(1, last.endColumn - 1) }
    : { line: 1, column: 1, endLine: 1, endColumn: 2 }
}
