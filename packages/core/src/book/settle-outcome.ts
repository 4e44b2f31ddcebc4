import { setTimeout as delay } from 'node:timers/promises'
import { isProblem, LedgermanProblem, type LoadedRecord } from '@ledgerman/contract'
import type { Mapping } from '../mapping/mapping.js'
import { loadRecord } from '../transaction/load-record.js'
import { entryAddress, type RunHeader, type StepOutcome } from '../transaction/receipt.js'
import type { KeyTexts } from '../transaction/record-key.js'
import type { Target } from '../target/target.js'

/** For how long a lost target is asked again before the outcome is called unknown, in milliseconds. */
const SETTLE_LIMIT_MS = 1_500

/**
 * Finds out whether a change whose connection broke was committed: inserts a refused marker under the same entry id on a
 * fresh session. The unique index makes the insert wait while the first statement may still commit, and only one of the
 * two can stand.
 *
 * @returns the record as it is now, where the change was committed.
 * @throws LedgermanProblem target-unavailable where it was not and never will be; outcome-unknown where the database
 *   cannot be asked.
 */
export async function settleOutcome(
  target: Target,
  mapping: Mapping,
  key: KeyTexts,
  header: RunHeader,
  cause: unknown,
): Promise<LoadedRecord & StepOutcome> {
  const deadline = Date.now() + SETTLE_LIMIT_MS
  for (;;) {
    try {
      const outcome = await insertMarker(target, mapping, header)
      if (outcome === null) {
        throw new LedgermanProblem(
          'target-unavailable',
          `The connection to ${target.name} broke. The change was not committed; try again.`,
          { target: target.name },
          { cause },
        )
      }
      const { matched, changed } = outcome
      const { record, guard } = await recordAsItIs(target, mapping, key.size > 0 ? key : outcome.key)
      return { record, guard, matched, changed, durationMs: null, rows: [] }
    } catch (error) {
      if (error instanceof LedgermanProblem && error.code === 'target-unavailable' && error.cause === cause) throw error
      if (Date.now() > deadline) {
        throw new LedgermanProblem(
          'outcome-unknown',
          `The connection to ${target.name} broke while the change was being committed, and the database cannot be asked. When it is back, look for the entry: if it is in the book as committed, the change is there; if not, it is not.`,
          { target: target.name, entry: entryAddress(target.name, header.id) },
          { cause },
        )
      }
      await delay(100)
    }
  }
}

/** The record by its key; empty where the step removed it. */
async function recordAsItIs(target: Target, mapping: Mapping, key: KeyTexts): Promise<LoadedRecord> {
  try {
    return await loadRecord(target, mapping, key)
  } catch (error) {
    if (isProblem(error, 'no-such-record')) return { record: {}, guard: null }
    throw error
  }
}

/** Null where the marker was inserted, and so the change never will be; else what the entry that was says. */
async function insertMarker(
  target: Target,
  mapping: Mapping,
  header: RunHeader,
): Promise<{ matched: number; changed: number; key: KeyTexts } | null> {
  const { rows } = await target.query(
    `insert into ledgerman.entry (id, at, actor, outcome, note, problem, detail)
     values ($1, $2, $3, 'refused', $4, 'target-unavailable', 'The connection broke before the change was committed.')
     on conflict (id) do nothing returning 1`,
    [header.id, header.startedAt, header.actor, header.note],
  )
  if (rows.length > 0) return null
  const entry = await target.query('select matched, changed, to_json(key) from ledgerman.entry where id = $1', [
    header.id,
  ])
  const [matched, changed, key] = entry.rows[0] ?? []
  const parts = JSON.parse(key ?? '[]') as string[]
  return {
    matched: Number(matched ?? 1),
    changed: Number(changed ?? 1),
    key: new Map(mapping.key.map(({ name }, at) => [name, parts[at] ?? ''])),
  }
}
