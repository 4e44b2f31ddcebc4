import Table from 'cli-table3'
import colors from 'picocolors'
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

/** Rows under a head line, in columns as wide as they need. Columns named in `right` are aligned to the right. */
export function formatTable(
  head: readonly string[],
  rows: readonly (readonly string[])[],
  right: readonly string[] = [],
): string {
  const table = new Table({
    chars: NO_BORDER,
    style: { 'padding-left': 0, 'padding-right': 0, head: [], border: [] },
    head: head.map((name) => (name === '' ? '' : colors.dim(name))),
    colAligns: head.map((name) => (right.includes(name) ? 'right' : 'left')),
  })
  table.push(...rows.map((row) => [...row]))
  return table
    .toString()
    .split('\n')
    .map((line) => line.trimEnd())
    .join('\n')
}

const LONGEST = 60

/** A value on one line: text as it is, null told apart from an empty text, control characters made visible. */
export function formatValue(value: unknown, longest = LONGEST): string {
  if (value === null || value === undefined) return colors.dim('null')
  const text = typeof value === 'string' ? (value === '' ? colors.dim("''") : visible(value)) : printJson(value)
  return text.length > longest ? `${text.slice(0, longest - 1)}…` : text
}

/** Whether a column of these values reads better aligned to the right. */
export function isNumeric(values: readonly unknown[]): boolean {
  const filled = values.filter((value) => value !== null && value !== undefined)
  return (
    filled.length > 0 &&
    filled.every((value) => typeof value === 'number' || (typeof value === 'string' && /^-?\d+(\.\d+)?$/.test(value)))
  )
}

/** Line breaks and escape sequences in data must not reach the terminal as such. */
function visible(text: string): string {
  return text.replace(/[\u0000-\u001f\u007f-\u009f]/g, (character) => JSON.stringify(character).slice(1, -1))
}
