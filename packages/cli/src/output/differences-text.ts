import colors from 'picocolors'
import type { RowReceipt } from '@ledgerman/contract'
import { formatTable, formatValue } from './table.js'

/** A property's values before and after, in one row; `isBeside` where nobody set it: the version, what a trigger wrote. */
interface Change {
  before: unknown
  after: unknown
  isBeside: boolean
}

/** How long a value in the table may be where whole values are not asked for. */
const LONGEST = 24

/**
 * The differences of many rows: a line a row with its key, and `before → after` of each property that changed. What changed in every row
 * alike is said once, above.
 */
export function formatDifferences(rows: readonly RowReceipt[], most: number, isWhole: boolean): string {
  const keys = Object.keys(rows[0]?.key ?? {})
  const changes = rows.map(changesOf)
  const names = [...new Set(changes.flatMap((each) => [...each.keys()]))].filter((name) => !keys.includes(name))
  const shared = new Map(
    names.flatMap((name) => {
      const words = rows.length > 1 ? sharedWords(changes, name, isWhole ? Infinity : LONGEST) : undefined
      return words === undefined ? [] : [[name, words] as const]
    }),
  )
  const shown = names.filter((name) => !shared.has(name))
  const longest = isWhole ? Infinity : LONGEST
  const table = formatTable(
    [...keys, ...shown],
    rows
      .slice(0, most)
      .map((row, at) => [
        ...keys.map((name) => formatValue(row.key[name], longest)),
        ...shown.map((name) => formatChange(changes[at]?.get(name), longest)),
      ]),
  )
  const alike = [...shared].map(([name, words]) => `${name} ${words}`)
  return [...(alike.length > 0 ? [`${colors.dim('in every row:')} ${alike.join(' · ')}`] : []), table].join('\n\n')
}

/** The differences as CSV would have them: key, then each property before and after. */
export function differenceColumns(rows: readonly RowReceipt[]): { names: string[]; lines: unknown[][] } {
  const keys = Object.keys(rows[0]?.key ?? {})
  const changes = rows.map(changesOf)
  const names = [...new Set(changes.flatMap((each) => [...each.keys()]))]
  return {
    names: [...keys, ...names.flatMap((name) => [`${name} before`, `${name} after`])],
    lines: rows.map((row, at) => [
      ...keys.map((name) => row.key[name]),
      ...names.flatMap((name) => [changes[at]?.get(name)?.before, changes[at]?.get(name)?.after]),
    ]),
  }
}

function changesOf({ before, after, alsoChanged }: RowReceipt): Map<string, Change> {
  const changes = new Map<string, Change>()
  const take = (old: RowReceipt['before'], now: RowReceipt['after'], isBeside: boolean) => {
    for (const name of new Set([...Object.keys(old ?? {}), ...Object.keys(now ?? {})]))
      changes.set(name, { before: old === null ? GONE : old[name], after: now === null ? GONE : now[name], isBeside })
  }
  take(before, after, false)
  if (alsoChanged) take(alsoChanged.before, alsoChanged.after, true)
  return changes
}

/** Stands for a side that is not there at all: of a record that was added or removed. */
const GONE = undefined

/** What all rows have in common of a property: the same change; beside what was set also the same end, or the same step up. */
function sharedWords(changes: readonly Map<string, Change>[], name: string, longest: number): string | undefined {
  const all = changes.flatMap((each) => each.get(name) ?? [])
  const [first] = all
  if (!first || all.length < changes.length) return undefined
  const isSame = (of: (change: Change) => unknown) => {
    const one = JSON.stringify(of(first) ?? null)
    return all.every((change) => JSON.stringify(of(change) ?? null) === one)
  }
  if (isSame(({ before, after }) => [before, after])) return formatChange(first, longest)
  if (!first.isBeside) return undefined
  if (isSame(({ after }) => after)) return `→ ${formatValue(first.after, longest)}`
  const step = ({ before, after }: Change) =>
    typeof before === 'number' && typeof after === 'number' ? after - before : null
  return step(first) !== null && isSame(step) ? `+${step(first)}` : undefined
}

function formatChange(change: Change | undefined, longest: number): string {
  if (!change) return ''
  const { before, after } = change
  if (before === GONE) return formatValue(after, longest)
  if (after === GONE) return formatValue(before, longest)
  return `${formatValue(before, longest)} → ${formatValue(after, longest)}`
}
