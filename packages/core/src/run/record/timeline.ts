import type { RecordEvent } from '../../book/record-history.js'

/** A record's columns in text form, by name, as far as they are known; null where there is no record, undefined where nothing is known. */
export type KnownColumns = Record<string, string | null> | null | undefined

/** One thing that happened to a record: an entry's, or what must have happened outside the book before it. */
export interface TimelineEvent {
  /** Null for what happened outside. */
  event: RecordEvent | null
  /** What had the key before and after: nothing, before a record was given it, and after it was given another. */
  before: Record<string, string | null> | null
  after: Record<string, string | null> | null
}

/** Whether two texts of a column are one value. */
export type IsSame = (column: string, one: string | null, other: string | null) => boolean

const isSameText: IsSame = (_, one, other) => one === other

/** How many events ahead it is looked for the one that joins: entries are numbered when they begin, and commit in another order. */
const WINDOW = 20

/**
 * Puts a record's events into the order in which they happened, the oldest first, with what must have happened outside the book between
 * two that do not join. `now` is what the record is at the end of it.
 *
 * @param newestFirst as the book gives them
 */
export function timelineOf(
  newestFirst: readonly RecordEvent[],
  now: KnownColumns,
  isSame: IsSame = isSameText,
): TimelineEvent[] {
  const left = [...newestFirst].reverse()
  const timeline: TimelineEvent[] = []
  let known: KnownColumns
  while (left.length > 0) {
    const [event] = left.splice(nextOf(left, known, now, isSame), 1)
    if (!event) break
    const { before, after } = ofKey(event)
    const outside = differences(known, before, isSame)
    if (outside) timeline.push({ event: null, ...outside })
    timeline.push({ event, before, after })
    known = leftBy(event, known)
  }
  const outside = timeline.length > 0 ? differences(known, now, isSame) : null
  return outside ? [...timeline, { event: null, ...outside }] : timeline
}

/**
 * Which event is the next. Another than the oldest only where those that it is put before join behind it, and what follows does: where something
 * else happened outside the book, what joins may have happened long after it.
 */
function nextOf(left: readonly RecordEvent[], known: KnownColumns, now: KnownColumns, isSame: IsSame): number {
  const joining = (events: readonly RecordEvent[], state: KnownColumns) =>
    events.slice(0, WINDOW).findIndex((event) => differences(state, ofKey(event).before, isSame) === null)
  const first = joining(left, known)
  if (first <= 0) return 0
  const events = left.slice(0, 3 * WINDOW)
  const passedOver = new Set(events.slice(0, first))
  let state = known
  while (passedOver.size > 0) {
    const [event] = events.splice(joining(events, state), 1)
    if (!event || differences(state, ofKey(event).before, isSame)) return 0
    passedOver.delete(event)
    state = leftBy(event, state)
  }
  const isJoined = events.length > 0 ? joining(events, state) >= 0 : differences(state, now, isSame) === null
  return isJoined ? first : 0
}

/** What is known of the record behind an event. */
function leftBy(event: RecordEvent, known: KnownColumns): KnownColumns {
  const { before, after } = ofKey(event)
  return after === null ? null : { ...known, ...before, ...after }
}

/** What had the key before an event and after it. */
function ofKey({ before, after, moved }: RecordEvent): Pick<TimelineEvent, 'before' | 'after'> {
  return { before: moved === 'here' ? null : before, after: moved === 'away' ? null : after }
}

/** Where what is known of a record does not agree with what is found next; null where it does. */
export function differences(
  known: KnownColumns,
  found: KnownColumns,
  isSame: IsSame = isSameText,
): Pick<TimelineEvent, 'before' | 'after'> | null {
  if (known === undefined || found === undefined) return null
  if (known === null || found === null) return known === found ? null : { before: known, after: found }
  const names = Object.keys(found).filter(
    (name) => name in known && !isSame(name, known[name] ?? null, found[name] ?? null),
  )
  if (names.length === 0) return null
  const pick = (of: Record<string, string | null>) => Object.fromEntries(names.map((name) => [name, of[name] ?? null]))
  return { before: pick(known), after: pick(found) }
}
