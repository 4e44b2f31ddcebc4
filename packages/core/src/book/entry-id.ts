import { randomFillSync } from 'node:crypto'
import { LedgermanProblem } from '@ledgerman/contract'
import { v7 } from 'uuid'

const RANDOM_BYTES = 16
const pool = new Uint8Array(256 * RANDOM_BYTES)
let used = pool.length

/** The moment of the last id, in milliseconds, and what counts the ids within it. */
let [lastMs, counter] = [0, 0]

/**
 * A new entry's id: UUID version 7 (RFC 9562), so that the newest come last in its index. Those of one process are in the order in which they were made,
 * within a millisecond too (section 6.2, method 1).
 */
export function newEntryId(): string {
  const random = randomBytes()
  const now = Date.now()
  if (now > lastMs) {
    lastMs = now
    // The first bit is left free, so that it can be counted up for long.
    counter =
      (((random[0] ?? 0) << 23) | ((random[1] ?? 0) << 15) | ((random[2] ?? 0) << 7) | ((random[3] ?? 0) >> 1)) >>> 0
  } else counter++
  return v7({ random, msecs: lastMs, seq: counter })
}

const UUID = /^[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}$/i

/** Whether a text may be asked for as an entry's id, in either case. */
export function isEntryId(text: string): boolean {
  return UUID.test(text)
}

/** What is thrown where a book has no entry of that id. */
export function noSuchEntry(target: { name: string }, id: string): LedgermanProblem {
  return new LedgermanProblem('not-found', `There is no entry ${id} in the book of ${target.name}.`, { entry: id })
}

/** Random bytes by the handful, since asking for them is dearer than having them. */
function randomBytes(): Uint8Array {
  if (used === pool.length) {
    randomFillSync(pool)
    used = 0
  }
  return pool.slice(used, (used += RANDOM_BYTES))
}
