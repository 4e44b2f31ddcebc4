import { printJson } from '@ledgerman/contract'
import { keyColumns, readRow, type SnapshotDifference } from '../scratch/snapshot.js'
import type { Volatile } from '../volatile.js'

/** Of two lists of rows that differ from the beginning, those in which they differ from each other: theirs, or ours where it is missing. */
export function whatDiffers(
  ours: readonly SnapshotDifference[],
  theirs: readonly SnapshotDifference[],
  volatile: Volatile,
): SnapshotDifference[] {
  const [one, other] = [byRow(ours), byRow(theirs)]
  const found: SnapshotDifference[] = []
  for (const [row, mine] of one) {
    const same = other.get(row)
    if (!same || stable(same.after, same, volatile) !== stable(mine.after, mine, volatile))
      found.push({ ...(same ?? mine), before: mine.after, after: same ? same.after : mine.before })
  }
  for (const [row, each] of other) if (!one.has(row)) found.push(each)
  return found
}

/** Rows that are new are told apart by the order in which they came. */
function byRow(differing: readonly SnapshotDifference[]): Map<string, SnapshotDifference> {
  const added = new Map<string, number>()
  return new Map(
    differing.map((each) => {
      const { table, before } = each
      const old = readRow(before)
      if (old) return [`${table.path} ${printJson(keyColumns(table).map((name) => old[name]))}`, each]
      const count = (added.get(table.path) ?? 0) + 1
      added.set(table.path, count)
      return [`${table.path} added ${count}`, each]
    }),
  )
}

function stable(json: string | null, { table }: SnapshotDifference, volatile: Volatile): string {
  const row = readRow(json)
  const left = volatile.get(table.path)
  return printJson(row && Object.fromEntries(Object.entries(row).filter(([name]) => !left?.has(name))))
}
