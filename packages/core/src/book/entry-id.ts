import { randomFillSync } from 'node:crypto'
import { LedgermanProblem } from '@ledgerman/contract'
import { v7 } from 'uuid'

const RANDOM_BYTES = 16
const pool = new Uint8Array(256 * RANDOM_BYTES)
let used = pool.length

/** A new entry's id: UUID version 7 (RFC 9562), so that the newest come last in its index. */
export function newEntryId(): string {
  return v7({ rng: randomBytes })
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
