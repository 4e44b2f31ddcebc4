import { otherEntries } from '../../book/other-entries.js'
import { otherEvents, recordEvents, type RecordEvent } from '../../book/record-history.js'
import type { KeyTexts, Mapping } from '../../mapping/mapping.js'
import type { Target } from '../../target/target.js'
import { otherKeys } from './other-keys.js'

/** What was committed to a record by any of its keys, the newest first. */
export interface AllEvents {
  events: RecordEvent[]
  /** Whether there are events before those. */
  isCut: boolean
  /** What in the book may be of it and was not looked through, in words. */
  unseen: string[]
}

/**
 * Reads it out of the book.
 *
 * @param most how many events are read by each way
 * @param tellsUnseen whether somebody is told of what was not looked through
 */
export async function allEvents(
  target: Target,
  mapping: Mapping,
  key: KeyTexts,
  { most, tellsUnseen }: { most: number; tellsUnseen: boolean },
): Promise<AllEvents> {
  const [own, others] = await Promise.all([
    recordEvents(target, mapping, key, most),
    otherEntries(target, mapping, tellsUnseen),
  ])
  const { keys, unknown } =
    others.keys.length === 0 ? { keys: [], unknown: [] } : await otherKeys(target, mapping, key, others.keys, own[0])
  const more = await otherEvents(target, mapping, keys, most)
  const events = more.events.length === 0 ? own : [...own, ...more.events].sort(newestFirst)
  const unseen = [
    ...(unknown.length > 0 ? [`entries by ${unknown.join(' and by ')} may be of it, and are not looked through`] : []),
    ...(more.isCut ? ['it had another key before, by which further entries are not looked through'] : []),
    ...(others.relations.length > 0
      ? [`entries of ${others.relations.join(', ')} may be of it, and are not looked through`]
      : []),
  ]
  return { events, isCut: own.length === most || more.events.length === most, unseen }
}

/** Of one moment the later step, and the later entry, comes first, as the book gives them. */
function newestFirst(one: RecordEvent, other: RecordEvent): number {
  const order = (a: string, b: string) => (a < b ? 1 : a > b ? -1 : 0)
  return order(one.at, other.at) || order(one.id, other.id) || other.step - one.step
}
