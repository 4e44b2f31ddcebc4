import type { BindReceipt } from '../receipt/receipt.js'

/** How programs write the place of a value in a statement. */
export const PLACEHOLDER_STYLES = ['dollar', 'question', 'colon', 'percent', 'percent-named', 'at'] as const
export type PlaceholderStyle = (typeof PLACEHOLDER_STYLES)[number]

interface Shown {
  statement: string
  binds: BindReceipt[]
}

/**
 * The same statement with placeholders of another style, and its values in the order, or under the names, that a program in that style
 * gives them. `dollar` is PostgreSQL's own. What would be taken for a placeholder is escaped as the drivers of the style want it: `%%`, `??`.
 */
export function restyle({ statement, binds }: Shown, style: PlaceholderStyle): Shown {
  if (style === 'dollar') return { statement, binds }
  const isNamed = style === 'colon' || style === 'percent-named' || style === 'at'
  const names = isNamed ? uniqueNames(binds) : []
  const used: BindReceipt[] = []
  const text = mapPlaceholders(
    statement,
    (number) => {
      const bind = binds.find(({ position }) => position === number)
      if (!isNamed) {
        if (bind) used.push({ ...bind, position: used.length + 1 })
        return style === 'question' ? '?' : '%s'
      }
      const name = names[binds.findIndex(({ position }) => position === number)] ?? `p${number}`
      return { colon: `:${name}`, 'percent-named': `%(${name})s`, at: `@${name}` }[style]
    },
    (other) => escapeFor(style, other),
  )
  return {
    statement: text,
    binds: isNamed ? binds.map((bind, at) => ({ ...bind, name: names[at] ?? bind.name })) : used,
  }
}

function escapeFor(style: PlaceholderStyle, text: string): string {
  if (style === 'percent' || style === 'percent-named') return text.replaceAll('%', '%%')
  return style === 'question' ? text.replace(/\?/g, '??') : text
}

/** Names that can stand in a placeholder, each once. */
function uniqueNames(binds: readonly BindReceipt[]): string[] {
  const taken = new Set<string>()
  return binds.map(({ name }) => {
    const plain = name
      .replace(/^:/, '')
      .replace(/[^A-Za-z0-9_]/g, '_')
      .replace(/^(?=\d|$)/, 'p')
    let free = plain
    for (let number = 2; taken.has(free); number++) free = `${plain}_${number}`
    taken.add(free)
    return free
  })
}

/** Has each `$n` of a statement replaced, and what stands between. */
function mapPlaceholders(
  text: string,
  toPlaceholder: (number: number) => string,
  toOther: (text: string) => string,
): string {
  // Strings, quoted names, comments, dollar quotes, and `$n`: what PostgreSQL's scanner tells apart (manual, "Lexical Structure"). Made here:
  // V8 looks all these letters up as it makes the expression, which a program that restyles nothing would pay for as well.
  const tokens =
    /[eE]'(?:[^'\\]|\\[\s\S]|'')*'|'(?:[^']|'')*'|"(?:[^"]|"")*"|--[^\n]*|\/\*[\s\S]*?(?:\*\/|$)|\$(?:[\p{L}_][\p{L}\p{N}_]*)?\$|\$(\d+)|[\p{L}_][\p{L}\p{N}_$]*/gu
  let result = ''
  let from = 0
  for (let found = tokens.exec(text); found; found = tokens.exec(text)) {
    const [token, number] = found
    if (number !== undefined) {
      result += toOther(text.slice(from, found.index)) + toPlaceholder(Number(number))
      from = tokens.lastIndex
    } else if (/^\$[^\d]*\$$/.test(token)) {
      // A dollar quote ends where its own tag comes again.
      const end = text.indexOf(token, tokens.lastIndex)
      tokens.lastIndex = end < 0 ? text.length : end + token.length
    }
  }
  return result + toOther(text.slice(from))
}

/** The same of everything in a value that is shown with its binds: receipts, steps, explanations. */
export function restyleAll<T>(value: T, style: PlaceholderStyle): T {
  return style === 'dollar' ? value : (restyled(value, style) as T)
}

function restyled(value: unknown, style: PlaceholderStyle): unknown {
  if (Array.isArray(value)) return value.map((each) => restyled(each, style))
  if (value === null || typeof value !== 'object' || Object.getPrototypeOf(value) !== Object.prototype) return value
  const { statement, binds } = value as Partial<Shown>
  const shown = typeof statement === 'string' && Array.isArray(binds) ? restyle({ statement, binds }, style) : {}
  const others = Object.entries(value).filter(([name]) => !Object.hasOwn(shown, name))
  return Object.fromEntries([...others.map(([name, each]) => [name, restyled(each, style)]), ...Object.entries(shown)])
}
