import { printJson } from '@ledgerman/contract'
import type { ScratchDatabase } from '../scratch/scratch-database.js'
import type { Volatile } from '../volatile.js'

/** One row of the book's history, as far as two ways of doing a thing have to agree on it. */
interface WrittenEntry {
  outcome: string
  problem: string | null
  kind: string
  mapping: string | null
  relation: string | null
  key: Record<string, string | null> | null
  before: Record<string, string | null> | null
  after: Record<string, string | null> | null
}

/** The newest entry of the book, for `entriesSince`. */
export async function newestEntry(scratch: ScratchDatabase): Promise<string> {
  const { rows } = await scratch.asKeeper(`select max(id::text) from ledgerman.entry`, [])
  return rows[0]?.[0] ?? '00000000-0000-0000-0000-000000000000'
}

/** What the book has got since an entry, in order; of a run a row for each image. */
export async function entriesSince(scratch: ScratchDatabase, newest: string): Promise<WrittenEntry[]> {
  const { rows } = await scratch.asKeeper(
    `select json_build_object('outcome', outcome, 'problem', problem, 'kind', kind, 'mapping', mapping, 'relation', relation,
  'key', key, 'before', before, 'after', after)::text
from ledgerman.history where id > $1::uuid order by relation, key::text, kind`,
    [newest],
  )
  return rows.map(([json]) => JSON.parse(json ?? '') as WrittenEntry)
}

/** What the entries say, without what a clock or chance gave, and without columns that stayed as they were: not all keep them. */
export function entriesText(entries: readonly WrittenEntry[], volatile: Volatile): string {
  return printJson(
    entries.map(({ before, after, ...entry }) => {
      const hidden = volatile.get(entry.relation ?? '')
      const names = Object.keys(before ?? after ?? {}).filter(
        (name) => !hidden?.has(name) && (!before || !after || before[name] !== after[name]),
      )
      const part = (row: typeof before) =>
        row && Object.fromEntries(names.sort().map((name) => [name, row[name] ?? null]))
      const isAdded = before === null && after !== null
      return { ...entry, key: isAdded && hidden ? null : entry.key, before: part(before), after: part(after) }
    }),
  )
}
