import colors from 'picocolors'
import stringWidth from 'string-width'
import { abridge, cutToDifference, escapeUnseen, hasUnseen } from '@ledgerman/client'
import { printJson } from '@ledgerman/contract'

const BETWEEN = '  '

/** Rows under a head line, in columns as wide as they need. Columns named in `right` are aligned to the right. */
export function formatTable(
  head: readonly string[],
  rows: readonly (readonly string[])[],
  right: readonly string[] = [],
): string {
  const titles = head.map((name) => (name === '' ? '' : colors.dim(name)))
  const lines = [titles, ...rows].flatMap(linesOf)
  const widths = widthsOf(lines)
  const isRight = head.map((name) => right.includes(name))
  return lines
    .map((cells) =>
      cells
        .map((cell, at) => pad(cell, widths[at] ?? 0, isRight[at] === true))
        .join(BETWEEN)
        .trimEnd(),
    )
    .join('\n')
}

/** A row whose cells have several lines is as many lines as the longest of them. */
function linesOf(row: readonly string[]): string[][] {
  const cells = row.map((cell) => cell.split('\n'))
  const height = Math.max(1, ...cells.map((cell) => cell.length))
  return Array.from({ length: height }, (_, line) => cells.map((cell) => cell[line] ?? ''))
}

const PLAIN = /^[\x20-\x7e]*$/

/** How many columns of a terminal a text takes; most have as many as characters, and need no table of the wide ones. */
function widthOf(text: string): number {
  return PLAIN.test(text) ? text.length : stringWidth(text)
}

/** How wide each column has to be, in columns of a terminal. */
function widthsOf(lines: readonly (readonly string[])[]): number[] {
  const widths: number[] = []
  for (const cells of lines) cells.forEach((cell, at) => (widths[at] = Math.max(widths[at] ?? 1, widthOf(cell))))
  return widths
}

function pad(cell: string, width: number, isRight: boolean): string {
  const blank = ' '.repeat(Math.max(0, width - widthOf(cell)))
  return isRight ? blank + cell : cell + blank
}

const LONGEST = 60

/**
 * A value on one line. A text stands as it is where nothing else looks like it; one that could be taken for something else (`null`, a
 * blank at its end, a list, a line break) stands in quotes as JSON has it, so that null and the text "null", or a line break and a backslash
 * before an n, never look alike.
 */
export function formatValue(value: unknown, longest = LONGEST): string {
  if (value === null || value === undefined) return colors.dim('null')
  return abridge(plainText(value), longest)
}

/** What `formatValue` shows of a value that is not null, whole. */
function plainText(value: unknown): string {
  if (typeof value !== 'string') return printJson(value)
  const isUnclear = NEEDS_QUOTES.test(value) || hasUnseen(value) || isListOrObject(value)
  return isUnclear ? escapeUnseen(JSON.stringify(value)) : value
}

const NEEDS_QUOTES = /^$|^null$|^\s|\s$|^"/

/** Whether a text reads as a JSON list or object, which it is not. */
function isListOrObject(text: string): boolean {
  if (!/^[[{].*[\]}]$/s.test(text)) return false
  try {
    JSON.parse(text)
    return true
  } catch {
    return false
  }
}

/** Two values side by side, each in so many columns: where they are cut, it is to the part that differs. */
export function formatDifference(before: unknown, after: unknown, longest: number): [string, string] {
  const isEmpty = [before, after].some((value) => value === null || value === undefined)
  if (isEmpty) return [formatValue(before, longest), formatValue(after, longest)]
  return cutToDifference(plainText(before), plainText(after), longest)
}

/** Whether a column of these values reads better aligned to the right. */
export function isNumeric(values: readonly unknown[]): boolean {
  const filled = values.filter((value) => value !== null && value !== undefined)
  return (
    filled.length > 0 &&
    filled.every((value) => typeof value === 'number' || (typeof value === 'string' && /^-?\d+(\.\d+)?$/.test(value)))
  )
}
