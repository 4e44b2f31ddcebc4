import type { Json } from '@ledgerman/contract'
import type { ColumnType, ValueKind } from '../../values/column-type.js'
import { valueFromText } from '../../values/value-text.js'
import type { Column } from './table.js'

/** Where PostgreSQL cuts off a value of a row that it tells, and what it puts there (`ExecBuildSlotValueDescription`). */
const LONGEST_BYTES = 64
const CUT_OFF = '...'
/** Stands between two values, and inside of some. */
const SEPARATOR = ', '
/** How many pieces of one row are looked at: a wide row of long texts has too many readings. */
const MOST_PIECES = 100_000

const NUMBER = /^-?(?:[\d.]+(?:e[+-]?\d+)?|Infinity)$|^NaN$/
/** How values of a type look, for types whose text has a form of its own. */
const FORMS: Partial<Record<ValueKind, RegExp>> = {
  boolean: /^[tf]$/,
  integer: /^-?\d+$/,
  bigint: /^-?\d+$/,
  float: NUMBER,
  numeric: NUMBER,
  date: /^(?:-?infinity|[-\d]+(?: BC)?)$/,
  time: /^[-+:.\d]+$/,
  timestamp: /^(?:-?infinity|[-:. \d]+(?: BC)?)$/,
  timestamptz: /^(?:-?infinity|[-+:. \d]+(?: BC)?)$/,
  array: /^(?:\[[-\d:[\]]+\]=)?\{.*\}$/s,
}

/**
 * Reads values of a row as PostgreSQL tells it in a message: `7, P-107, {a, b}`, in the order of the columns. Nothing there tells a comma of a
 * value from one between values, so all readings are gone through that the types allow.
 *
 * @returns the values of these columns, in order; undefined where they are not the same in every reading, or not told whole
 */
export function valuesInRow(text: string, columns: readonly Column[], wanted: readonly Column[]): Json[] | undefined {
  const parts = text.split(SEPARATOR)
  const spare = parts.length - columns.length
  if (spare < 0 || columns.length * (spare + 1) * Math.min(spare + 1, LONGEST_BYTES) > MOST_PIECES) return undefined
  const found = new Map<Column, Set<string>>(columns.map((column) => [column, new Set()]))
  const known = new Map<string, boolean>()
  const hasReading = (at: number, from: number): boolean => {
    const column = columns[at]
    if (!column) return from === parts.length
    const state = `${at} ${from}`
    const before = known.get(state)
    if (before !== undefined) return before
    let isReadable = false
    for (let to = from + 1; to <= at + spare + 1; to++) {
      const piece = parts.slice(from, to).join(SEPARATOR)
      if (Buffer.byteLength(piece) > LONGEST_BYTES + CUT_OFF.length) break
      if (!canBe(piece, column.type) || !hasReading(at + 1, to)) continue
      isReadable = true
      found.get(column)?.add(piece)
    }
    known.set(state, isReadable)
    return isReadable
  }
  hasReading(0, 0)
  const values = wanted.map((column) => {
    const [piece, other] = found.get(column) ?? []
    const isTold = other === undefined && piece !== 'null' && !piece?.endsWith(CUT_OFF)
    return isTold && piece !== undefined ? piece : undefined
  })
  if (values.includes(undefined)) return undefined
  return wanted.map(({ type }, at) => valueFromText(values[at] ?? null, type))
}

function canBe(piece: string, { kind }: ColumnType): boolean {
  if (piece === 'null' || piece.endsWith(CUT_OFF)) return true
  if (kind === 'json' || kind === 'jsonb') return isJson(piece)
  return FORMS[kind]?.test(piece) ?? true
}

function isJson(piece: string): boolean {
  try {
    JSON.parse(piece)
    return true
  } catch {
    return false
  }
}
