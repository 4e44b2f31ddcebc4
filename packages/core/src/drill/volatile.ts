import { printJson } from '@ledgerman/contract'
import type { Column } from '../mapping/catalogue/table.js'
import type { DrillClock } from './clock.js'
import { isSame, keyColumns, readRow, type SnapshotDifference } from './scratch/snapshot.js'

/** Columns whose values chance or the clock decides, by table: they are left out of what is compared. */
export type Volatile = ReadonlyMap<string, ReadonlySet<string>>

/**
 * Which columns are different each time although the runs do the same: a clock or chance gives them.
 *
 * @param one and `other` two trials of the same order.
 */
export function volatileColumns(
  one: readonly SnapshotDifference[],
  other: readonly SnapshotDifference[],
  clock?: DrillClock,
): Map<string, Set<string>> {
  const found = new Map<string, Set<string>>()
  // Rows that were added may have got other numbers: they are told apart by the order in which they came.
  const withIds = (differing: readonly SnapshotDifference[]) => {
    const added = new Map<string, number>()
    return differing.map((each): [string, SnapshotDifference] => {
      const { table, before } = each
      if (before !== null)
        return [`${table.path} ${printJson(keyColumns(table).map((name) => (readRow(before) ?? {})[name]))}`, each]
      const count = (added.get(table.path) ?? 0) + 1
      added.set(table.path, count)
      return [`${table.path} added ${count}`, each]
    })
  }
  const others = new Map(withIds(other))
  for (const [id, each] of withIds(one)) {
    const [row, same] = [readRow(each.after), readRow(others.get(id)?.after ?? null)]
    if (!row || !same) continue
    for (const name of Object.keys(row)) {
      if (isSame(row[name], same[name])) continue
      // A moment of the drill is told by its value, in the row where it stands.
      if (clock && clock.isReading(row[name]) && clock.isReading(same[name])) continue
      found.set(each.table.path, (found.get(each.table.path) ?? new Set()).add(name))
    }
  }
  return found
}

/** Whether chance or a counter gives a column its value where a new row says none. */
export function isByChance({ identity, default: fallback }: Pick<Column, 'identity' | 'default'>): boolean {
  return identity !== null || /\b(?:nextval|gen_random_uuid|uuid_generate\w*|random)\(/.test(fallback ?? '')
}
