import colors from 'picocolors'
import { keyChange, rowDifferences, type PropertyChange, type SharedChange } from '@ledgerman/client'
import type { RowReceipt } from '@ledgerman/contract'
import { formatDifference, formatTable, formatValue } from './table.js'

/** How long a value in the table may be where whole values are not asked for: a timestamp stands whole. */
const LONGEST = 27

/**
 * The differences of many rows: a line a row with its key, and `before → after` of each property that changed. What changed in every row
 * alike is said once, above.
 */
export function formatDifferences(receipts: readonly RowReceipt[], most: number, isWhole: boolean): string {
  const { keys, columns, shared, rows } = rowDifferences(receipts)
  const longest = isWhole ? Infinity : LONGEST
  const table = formatTable(
    [...keys, ...columns],
    rows
      .slice(0, most)
      .map((row) => [
        ...keys.map((name) =>
          keyChange(row, name) ? formatChange(row.changes.get(name), longest) : formatValue(row.key[name], longest),
        ),
        ...columns.map((name) => formatChange(row.changes.get(name), longest)),
      ]),
  )
  const alike = shared.map((each) => `${each.name} ${formatShared(each, longest)}`)
  return [...(alike.length > 0 ? [`${colors.dim('in every row:')} ${alike.join(' · ')}`] : []), table].join('\n\n')
}

function formatShared(shared: SharedChange, longest: number): string {
  if ('change' in shared) return formatChange(shared.change, longest)
  return 'step' in shared ? `+${shared.step}` : `→ ${formatValue(shared.after, longest)}`
}

function formatChange(change: PropertyChange | undefined, longest: number): string {
  if (!change) return ''
  const { before, after } = change
  if (before === undefined) return formatValue(after, longest)
  if (after === undefined) return formatValue(before, longest)
  const [old, now] = formatDifference(before, after, longest)
  return `${old} → ${now}`
}
