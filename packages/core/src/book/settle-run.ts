import { setTimeout as delay } from 'node:timers/promises'
import { LedgermanProblem } from '@ledgerman/contract'
import type { Target } from '../target/target.js'
import { entryAddress } from '../transaction/receipt.js'

/** For how long a lost target is asked again before the outcome is called unknown, in milliseconds. */
const SETTLE_LIMIT_MS = 1_500

/**
 * Finds out whether a run whose connection broke during COMMIT was committed, and fences it off where it was not: see
 * `settle-outcome.ts`.
 *
 * @throws LedgermanProblem target-unavailable where it was not and never will be; outcome-unknown where nobody can be asked.
 */
export async function settleRun(
  target: Target,
  run: { id: string; startedAt: string },
  { actor, note }: { actor: string; note?: string | undefined },
  cause: unknown,
): Promise<void> {
  const deadline = Date.now() + SETTLE_LIMIT_MS
  for (;;) {
    const inserted = await target
      .query(
        `insert into ledgerman.entry (id, at, actor, outcome, note, problem, detail)
         values ($1, $2, $3, 'refused', $4, 'target-unavailable', 'The connection broke before the run was committed.')
         on conflict (id) do nothing returning 1`,
        [run.id, run.startedAt, actor, note ?? null],
      )
      .catch(() => null)
    if (inserted?.rows.length === 0) return
    if (inserted)
      throw new LedgermanProblem(
        'target-unavailable',
        `The connection to ${target.name} broke. The run was not committed; try again.`,
        { target: target.name },
        { cause },
      )
    if (Date.now() > deadline)
      throw new LedgermanProblem(
        'outcome-unknown',
        `The connection to ${target.name} broke while the run was being committed, and the database cannot be asked. When it is back, look for the entry: if it is in the book as committed, the run is; if not, it is not.`,
        { target: target.name, entry: entryAddress(target.name, run.id) },
        { cause },
      )
    await delay(100)
  }
}
