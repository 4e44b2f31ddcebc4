import type { RecordEvent } from '../book/record-history.js'

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
    const joining = left.slice(0, WINDOW).findIndex((event) => differences(known, ofKey(event).before, isSame) === null)
    const [event] = left.splice(Math.max(0, joining), 1)
    if (!event) break
    const { before, after } = ofKey(event)
    const outside = differences(known, before, isSame)
    if (outside) timeline.push({ event: null, ...outside })
    timeline.push({ event, before, after })
    known = after === null ? null : { ...known, ...before, ...after }
  }
  const outside = timeline.length > 0 ? differences(known, now, isSame) : null
  return outside ? [...timeline, { event: null, ...outside }] : timeline
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
