import { randomFillSync } from 'node:crypto'
import { v7 } from 'uuid'

const RANDOM_BYTES = 16
const pool = new Uint8Array(256 * RANDOM_BYTES)
let used = pool.length

/** A new entry's id: UUID version 7 (RFC 9562), so that the newest come last in its index. */
export function newEntryId(): string {
  return v7({ rng: randomBytes })
}

/** Random bytes by the handful, since asking for them is dearer than having them. */
function randomBytes(): Uint8Array {
  if (used === pool.length) {
    randomFillSync(pool)
    used = 0
  }
  return pool.slice(used, (used += RANDOM_BYTES))
}
