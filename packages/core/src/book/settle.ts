import { setTimeout as delay } from 'node:timers/promises'
import { entryAddress, LedgermanProblem } from '@ledgerman/contract'
import { AnswerTooLarge } from '../sessions/answer-limit.js'
import { answerTooLarge } from '../sessions/connection-problem.js'
import { isCancelled, isDatabaseError, isLockTimeout } from '../sessions/database-error.js'
import { isConnectionError } from '../sessions/connection-error.js'
import type { Queryable } from '../sessions/queryable.js'
import type { Target } from '../target/target.js'

/** For how long a lost target is asked again before the outcome is called unknown, in milliseconds. */
const SETTLE_LIMIT_MS = 1_500
const PAUSE_MS = 100

/** A commit whose answer was lost. */
export interface LostCommit {
  id: string
  actor: string
  note: string | null
}

/**
 * Commits what stands in the book under that id as committed; where the answer is lost, the book says whether it did.
 *
 * @throws as `settle`; an error where COMMIT did not commit, which its command tag tells
 */
export async function commitSettled(target: Target, session: Queryable, entry: LostCommit): Promise<void> {
  try {
    const { command } = await session.query('commit')
    if (command !== 'COMMIT') throw new LedgermanProblem('internal', `COMMIT was answered with ${command}.`)
  } catch (error) {
    if (!isConnectionError(error)) throw error
    await settle(target, entry, error)
  }
}

/**
 * Finds out whether a commit whose connection broke took effect: inserts a refused marker under the same entry id on a fresh
 * session, and reads back which of the two stands. The unique index makes the insert wait while the first statement may still
 * commit, and only one of them can be there. That the insert met an entry says nothing by itself: it may be our own marker,
 * whose answer was lost.
 *
 * Resolves where the entry stands as committed.
 *
 * @throws LedgermanProblem target-unavailable where it was not committed and never will be; outcome-unknown where the database
 *   cannot be asked.
 */
export async function settle(target: Target, lost: LostCommit, cause: unknown): Promise<void> {
  const deadline = performance.now() + SETTLE_LIMIT_MS
  for (;;) {
    const outcome = await outcomeOf(target, lost, deadline).catch((error: unknown) => {
      if (mayPass(error)) return null
      throw error
    })
    if (outcome === 'committed') return
    if (outcome !== null && cause instanceof AnswerTooLarge)
      throw answerTooLarge(cause, ' The change was not committed, and never will be.')
    if (outcome !== null)
      throw new LedgermanProblem(
        'target-unavailable',
        `The connection to ${target.name} broke. The change was not committed, and never will be; try again.`,
        { target: target.name },
        { cause },
      )
    if (performance.now() > deadline)
      throw new LedgermanProblem(
        'outcome-unknown',
        `The connection to ${target.name} broke while the change was being committed, and the database cannot be asked. When it is back, look for the entry: if it is in the book as committed, the change is there; if not, it is not.`,
        { target: target.name, entry: entryAddress(target.name, lost.id) },
        { cause },
      )
    await delay(PAUSE_MS)
  }
}

/** What stands in the book under the id: by now something does. */
async function outcomeOf(target: Target, lost: LostCommit, deadline: number): Promise<string | null> {
  // A server that does not answer at all is given up when the time is over.
  const limit = { limitMs: Math.max(PAUSE_MS, deadline - performance.now()) }
  await target.queryWithin(limit, MARKER_SQL, [lost.id, lost.actor, lost.note])
  const { rows } = await target.queryWithin(limit, 'select outcome from ledgerman.entry where id = $1::uuid', [lost.id])
  return rows[0]?.[0] ?? null
}

const MARKER_SQL = `
insert into ledgerman.entry (id, actor, outcome, note, problem, detail)
values ($1, $2, 'refused', $3, 'target-unavailable', 'The connection broke before the change was committed.')
on conflict (id) do nothing`

/** Whether asking again may succeed: the database is away, out of resources, or the first commit is still going on. */
function mayPass(error: unknown): boolean {
  return (
    error instanceof LedgermanProblem ||
    isConnectionError(error) ||
    isLockTimeout(error) ||
    isCancelled(error) ||
    (isDatabaseError(error) && /^(?:53|40|25)/.test(error.code))
  )
}
