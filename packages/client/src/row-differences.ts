import { printJson, type RowReceipt } from '@ledgerman/contract'

/** A property's values before and after, in one row; a side that is not there at all (a record added or removed) is undefined. */
export interface PropertyChange {
  before: unknown
  after: unknown
  /** Whether nobody set it: the version, what a trigger wrote. */
  isBeside: boolean
}

/** What all rows have in common of a property: the same change, the same end, or the same step up. */
export type SharedChange =
  { name: string; change: PropertyChange } | { name: string; after: unknown } | { name: string; step: number }

/** The differences of many rows as a table: which columns differ from row to row, and what is the same in all. */
export interface RowDifferences {
  keys: string[]
  columns: string[]
  shared: SharedChange[]
  rows: { key: RowReceipt['key']; changes: ReadonlyMap<string, PropertyChange> }[]
}

export function rowDifferences(rows: readonly RowReceipt[]): RowDifferences {
  const keys = Object.keys(rows[0]?.key ?? {})
  const told = rows.map((row) => ({ key: row.key, changes: changesOf(row) }))
  const names = [...new Set(told.flatMap(({ changes }) => [...changes.keys()]))].filter((name) => !keys.includes(name))
  const shared =
    rows.length > 1
      ? names.flatMap(
          (name) =>
            sharedChange(
              told.map(({ changes }) => changes),
              name,
            ) ?? [],
        )
      : []
  const columns = names.filter((name) => !shared.some((each) => each.name === name))
  return { keys, columns, shared, rows: told }
}

/** How a part of a row's key was changed; undefined where it is as it was, or the row was added or removed. */
export function keyChange({ changes }: RowDifferences['rows'][number], name: string): PropertyChange | undefined {
  const change = changes.get(name)
  return change?.before === undefined || change.after === undefined ? undefined : change
}

function changesOf({ before, after, alsoChanged }: RowReceipt): Map<string, PropertyChange> {
  const changes = new Map<string, PropertyChange>()
  const take = (old: RowReceipt['before'], now: RowReceipt['after'], isBeside: boolean) => {
    for (const name of new Set([...Object.keys(old ?? {}), ...Object.keys(now ?? {})]))
      changes.set(name, { before: old?.[name], after: now?.[name], isBeside })
  }
  take(before, after, false)
  if (alsoChanged) take(alsoChanged.before, alsoChanged.after, true)
  return changes
}

function sharedChange(rows: readonly ReadonlyMap<string, PropertyChange>[], name: string): SharedChange | undefined {
  const all = rows.flatMap((each) => each.get(name) ?? [])
  const [first] = all
  if (!first || all.length < rows.length) return undefined
  const isSame = (of: (change: PropertyChange) => unknown) => {
    const one = printJson(of(first) ?? null)
    return all.every((change) => printJson(of(change) ?? null) === one)
  }
  if (isSame(({ before, after }) => [before, after])) return { name, change: first }
  if (!first.isBeside) return undefined
  if (isSame(({ after }) => after)) return { name, after: first.after }
  const step = ({ before, after }: PropertyChange) =>
    typeof before === 'number' && typeof after === 'number' ? after - before : null
  const up = step(first)
  return up !== null && isSame(step) ? { name, step: up } : undefined
}
