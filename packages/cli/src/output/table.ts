import Table from 'cli-table3'
import colors from 'picocolors'
import stringWidth from 'string-width'
import { printJson } from '@ledgerman/contract'

const NO_BORDER = {
  top: '',
  'top-mid': '',
  'top-left': '',
  'top-right': '',
  bottom: '',
  'bottom-mid': '',
  'bottom-left': '',
  'bottom-right': '',
  left: '',
  'left-mid': '',
  mid: '',
  'mid-mid': '',
  right: '',
  'right-mid': '',
  middle: '  ',
}

/** How many rows are laid out together: the table's layout takes as long as the square of their number. */
const TOGETHER = 50

/** Rows under a head line, in columns as wide as they need. Columns named in `right` are aligned to the right. */
export function formatTable(
  head: readonly string[],
  rows: readonly (readonly string[])[],
  right: readonly string[] = [],
): string {
  const titles = head.map((name) => (name === '' ? '' : colors.dim(name)))
  const colAligns = head.map((name) => (right.includes(name) ? ('right' as const) : ('left' as const)))
  const colWidths = widthsOf([titles, ...rows])
  const parts: string[] = []
  for (let from = 0; from === 0 || from < rows.length; from += TOGETHER) {
    const style = { 'padding-left': 0, 'padding-right': 0, head: [], border: [] }
    const table = new Table({ chars: NO_BORDER, style, head: from === 0 ? titles : [], colAligns, colWidths })
    table.push(...rows.slice(from, from + TOGETHER).map((row) => [...row]))
    parts.push(table.toString())
  }
  return parts
    .join('\n')
    .split('\n')
    .map((line) => line.trimEnd())
    .join('\n')
}

/** How wide each column has to be, in columns of a terminal. */
function widthsOf(rows: readonly (readonly string[])[]): number[] {
  const widths: number[] = []
  for (const row of rows) row.forEach((cell, at) => (widths[at] = Math.max(widths[at] ?? 1, stringWidth(cell))))
  return widths
}

const LONGEST = 60

/**
 * A value on one line. A text stands as it is where nothing else looks like it; one that could be taken for something else (`null`, a
 * number's blank, a line break) stands in quotes as JSON has it, so that null and the text "null", or a line break and a backslash
 * before an n, never look alike.
 */
export function formatValue(value: unknown, longest = LONGEST): string {
  if (value === null || value === undefined) return colors.dim('null')
  return abridge(plainText(value), longest)
}

/** What `formatValue` shows of a value that is not null, whole. */
function plainText(value: unknown): string {
  if (typeof value !== 'string') return printJson(value)
  return NEEDS_QUOTES.test(value) ? visible(JSON.stringify(value)) : value
}

const NEEDS_QUOTES = /^$|^null$|^\s|\s$|["\\]|[\u0000-\u001f\u007f-\u009f\u200b-\u200f\u2028-\u202e\u2066-\u2069]/

function abridge(text: string, longest: number): string {
  return text.length > longest ? `${text.slice(0, longest - 1)}…` : text
}

/** How much of what is the same is shown around what differs. */
const AROUND = 12

/** Two values side by side, each in so many columns: where they are cut, it is to the part that differs. */
export function formatDifference(before: unknown, after: unknown, longest: number): [string, string] {
  const isEmpty = [before, after].some((value) => value === null || value === undefined)
  if (isEmpty) return [formatValue(before, longest), formatValue(after, longest)]
  const [one, other] = [plainText(before), plainText(after)]
  if (one.length <= longest && other.length <= longest) return [one, other]
  let start = 0
  while (start < one.length && start < other.length && one[start] === other[start]) start++
  let end = 0
  while (end < Math.min(one.length, other.length) - start && one.at(-1 - end) === other.at(-1 - end)) end++
  return [excerpt(one, start, end, longest), excerpt(other, start, end, longest)]
}

function excerpt(text: string, start: number, end: number, longest: number): string {
  const from = Math.max(0, start - AROUND)
  const to = Math.min(text.length, text.length - end + AROUND)
  const shown = `${from > 0 ? '…' : ''}${text.slice(from, to)}${to < text.length ? '…' : ''}`
  return abridge(shown, Math.max(longest, 2 * AROUND + 4))
}

/** Whether a column of these values reads better aligned to the right. */
export function isNumeric(values: readonly unknown[]): boolean {
  const filled = values.filter((value) => value !== null && value !== undefined)
  return (
    filled.length > 0 &&
    filled.every((value) => typeof value === 'number' || (typeof value === 'string' && /^-?\d+(\.\d+)?$/.test(value)))
  )
}

/** Escape sequences and characters that cannot be seen must not reach the terminal as such; JSON leaves some of them as they are. */
function visible(text: string): string {
  return text.replace(
    /[\u0000-\u001f\u007f-\u009f\u200b-\u200f\u2028-\u202e\u2066-\u2069]/g,
    (character) => `\\u${character.charCodeAt(0).toString(16).padStart(4, '0')}`,
  )
}
