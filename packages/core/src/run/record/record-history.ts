import {
  LedgermanProblem,
  type HistoryEvent,
  type RecordAsOf,
  type RecordHistory,
  type RecordValues,
} from '@ledgerman/contract'
import type { RecordEvent } from '../../book/record-history.js'
import { unknownSince } from '../../book/unknown-since.js'
import type { KeyTexts, Mapping, Property } from '../../mapping/mapping.js'
import { showable, textOfImage } from '../../mapping/showable.js'
import { jsonOfText, recordFromTexts } from '../../mapping/record-row.js'
import type { Target } from '../../target/target.js'
import { castOfSent } from '../../values/cast-text.js'
import { digestOfSent, isDigest } from '../../values/digest.js'
import { allEvents } from './all-events.js'
import { loadTexts } from './load-record.js'
import { isKeyWrittenOneWay } from '../../statement/canonical-key.js'
import { othersWrite } from '../../statement/keyed-statement.js'
import { assertKeyed } from './record-key.js'
import { differences, timelineOf, type IsSame, type KnownColumns, type TimelineEvent } from './timeline.js'

/** How many events of one record are read at most. */
const MOST_EVENTS = 5_000

export interface HistoryRequest {
  property?: string | undefined
  /** Instants (RFC 3339): from the first on, and before the second. */
  from?: string | undefined
  until?: string | undefined
  /** The `next` of the page before. */
  after?: string | undefined
  limit: number
}

/**
 * What became of a record, property by property, the newest first: out of the images in the book, and what must have happened outside it.
 *
 * @throws LedgermanProblem book-not-prepared, no-key, request-invalid (an unknown property), not-found (neither a record nor an entry)
 */
export async function readHistory(
  target: Target,
  mapping: Mapping,
  key: KeyTexts,
  { property, from, until, after, limit }: HistoryRequest,
): Promise<RecordHistory> {
  if (property !== undefined && !mapping.byName.has(property))
    throw new LedgermanProblem('request-invalid', `property: ${property} is not a property of ${mapping.name}.`, {
      where: 'property',
    })
  const { timeline, unseen } = await lookBack(target, mapping, key)
  const numbered = timeline.map((each, at) => ({ id: String(at), event: toEvent(mapping, each) })).reverse()
  const isWanted = ({ at, changes }: HistoryEvent) =>
    (property === undefined || changes.some((change) => change.property === property)) &&
    (from === undefined || (at !== null && microsOf(at) >= microsOf(from))) &&
    (until === undefined || (at !== null && microsOf(at) < microsOf(until)))
  const wanted = numbered.filter(
    ({ id, event }) => (after === undefined || Number(id) < Number(after)) && isWanted(event),
  )
  const page = wanted.slice(0, limit)
  const only = (event: HistoryEvent): HistoryEvent =>
    property === undefined
      ? event
      : { ...event, changes: event.changes.filter((change) => change.property === property) }
  return {
    history: page.map(({ event }) => only(event)),
    next: wanted.length > limit ? (page.at(-1)?.id ?? null) : null,
    unseen: unseen.map((words) => `${words.charAt(0).toUpperCase()}${words.slice(1)}.`),
  }
}

/**
 * A record as it was at a moment: from what it is now, what was done to it since is taken back, the newest first.
 *
 * @param at an instant (RFC 3339)
 * @throws LedgermanProblem book-not-prepared, no-key, not-found
 */
export async function recordAsOf(target: Target, mapping: Mapping, key: KeyTexts, at: string): Promise<RecordAsOf> {
  const unknown = await unknownSince(target, mapping, at)
  const { state, doubts: met, present } = await stateAt(target, mapping, key, microsOf(at), MOST_KEYS)
  const doubts = [...unknown, ...met]
  // Of a sensitive value the book has a digest: where that is the present one's, it is the present value.
  const plain = state && withPlain(mapping, state, present)
  if (plain && mapping.properties.some(({ column }) => isDigest(plain[column.name])))
    doubts.push('the book has only digests of sensitive values')
  const missing = state ? mapping.properties.filter(({ column }) => !(column.name in (state as object))) : []
  if (missing.length > 0) doubts.push(`nothing is known of ${missing.map(({ name }) => name).join(', ')} at that time`)
  return {
    record: plain ? toRecord(mapping, plain) : null,
    asOf: at,
    sure: doubts.length === 0,
    because: doubts.length === 0 ? null : [...new Set(doubts)].join('; '),
  }
}

/** A record at a moment, in columns, with what is not sure of it; and the record that it is now. */
interface StateAt {
  state: KnownColumns
  doubts: string[]
  present: Present
}

/** How many keys that a record had are followed. */
const MOST_KEYS = 20

/** @param moment in microseconds @param keys how many further keys are followed, where it was given another */
async function stateAt(
  target: Target,
  mapping: Mapping,
  key: KeyTexts,
  moment: number,
  keys: number,
): Promise<StateAt> {
  const { timeline, now, row, isSame, isCut, unseen } = await lookBack(target, mapping, key)
  const doubts = [...unseen]
  let state: KnownColumns = now
  let present: Present = { now, row, isSame }
  const earliest = timeline.find(({ event }) => event !== null)?.event
  if (isCut && earliest && microsOf(earliest.at) > moment)
    doubts.push(`more than ${MOST_EVENTS} entries are of it; it is looked back to ${earliest.at}`)
  const since = timeline.filter(({ event }, place) => isAfter(event, timeline, place, moment)).reverse()
  for (const { event, before, after } of since) {
    if (event === null) {
      doubts.push(`it was changed outside the book: ${propertyNames(mapping, after ?? before) || 'the whole record'}`)
      state = before === null ? null : { ...state, ...before }
      continue
    }
    const gone = goneFrom(mapping, { ...before, ...after })
    if (gone !== '') doubts.push(`entry ${event.id} changed ${gone}, which the table does not have any more`)
    const unsaid = before && after && othersWrite(mapping.table) ? unsaidIn(mapping, before) : ''
    if (unsaid !== '') doubts.push(`entry ${event.id} says nothing of ${unsaid}, which it may have changed too`)
    if (differences(state, after, isSame) !== null) doubts.push(`it is not as the entry ${event.id} left it`)
    const isHidden = mapping.key.some(({ sensitive }) => sensitive)
    if (event.moved === 'away' && isHidden)
      doubts.push('it was given another key since, of which the book has only a digest')
    else if (event.moved === 'away' && keys > 0) {
      // What else it was then stands under the key that it was given.
      const there = await stateAt(target, mapping, keyAfter(mapping, key, event), microsOf(event.at), keys - 1)
      doubts.push(...there.doubts)
      state = there.state
      present = there.present
    }
    if (event.moved === 'here' && !isKeyWrittenOneWay(mapping))
      doubts.push(
        `entry ${event.id} gave it this key: where the database takes the one before for the same, look by that`,
      )
    state = before === null ? null : { ...(state ?? {}), ...before }
  }
  return { state, doubts, present }
}

/** The columns of an image that the table does not have, by now at least: they may have another name. */
function goneFrom({ table }: Mapping, image: object): string {
  const known = new Set(table.columns.map(({ name }) => name))
  return Object.keys(image)
    .filter((name) => !known.has(name))
    .join(', ')
}

/** The properties that an image has nothing of: it is one of another mapping, or revision. */
function unsaidIn({ properties }: Mapping, image: object): string {
  return properties.flatMap(({ name, column }) => (column.name in image ? [] : [name])).join(', ')
}

/** The key that an event gave a record. */
function keyAfter(mapping: Mapping, key: KeyTexts, { after }: RecordEvent): KeyTexts {
  return new Map(mapping.key.map(({ name, column }) => [name, after?.[column.name] ?? key.get(name) ?? '']))
}

/** An instant (RFC 3339) in microseconds, as exact as PostgreSQL keeps it. */
function microsOf(instant: string): number {
  const digits = /\.(\d{1,6})/.exec(instant)?.[1] ?? ''
  return Date.parse(instant.replace(/\.\d+/, '')) * 1_000 + Number(digits.padEnd(6, '0'))
}

/** What happened outside happened before the next entry, and nobody knows when: it counts as later than what is asked for. */
function isAfter(
  event: RecordEvent | null,
  timeline: readonly TimelineEvent[],
  place: number,
  moment: number,
): boolean {
  if (event) return microsOf(event.at) > moment
  const next = timeline.slice(place + 1).find((each) => each.event !== null)?.event
  return next === undefined || microsOf((next as RecordEvent).at) > moment
}

/** What a record is now. */
interface Present {
  now: Record<string, string | null> | null
  row: readonly (string | null)[] | null
  isSame: IsSame
}

async function lookBack(
  target: Target,
  mapping: Mapping,
  key: KeyTexts,
): Promise<
  Present & {
    timeline: TimelineEvent[]
    /** Whether there are events before those. */
    isCut: boolean
    /** What in the book may be of it and was not looked through, in words. */
    unseen: string[]
  }
> {
  assertKeyed(mapping)
  await target.assertBook()
  const explained = (error: unknown): never => {
    throw target.explain(error)
  }
  const [{ events, isCut, unseen }, row] = await Promise.all([
    allEvents(target, mapping, key, { most: MOST_EVENTS, tellsUnseen: true }).catch(explained),
    loadTexts(target, mapping, key),
  ])
  const now =
    row === null
      ? null
      : Object.fromEntries(
          mapping.properties.map((property, at) => [
            property.column.name,
            property.sensitive ? showable(target, property, row[at] ?? null) : asBooked(property, row[at] ?? null),
          ]),
        )
  if (events.length === 0 && now === null)
    throw new LedgermanProblem(
      'no-such-record',
      `There is no such ${mapping.name}, and the book has no entry of it by this key.`,
      {
        mapping: mapping.name,
      },
    )
  const isSame = sameIn(target, mapping)
  return { timeline: timelineOf(events, now, isSame), now, row, isSame, isCut, unseen }
}

/** Texts of one value; one of them may be its digest, where the property was sensitive then and is not now, or the other way round. */
function sameIn(target: Target, mapping: Mapping): IsSame {
  const types = new Map(mapping.properties.map(({ column }) => [column.name, column.type]))
  return (name, one, other) => {
    if (one === other) return true
    const type = types.get(name)
    if (!isDigest(one) && !isDigest(other)) return type?.kind === 'numeric' && withoutZeros(one) === withoutZeros(other)
    const digestOf = (text: string | null) =>
      type && text !== null && !isDigest(text) ? digestOfSent(target.digestKey, text, type) : text
    return digestOf(one) === digestOf(other)
  }
}

/** A number without the zeros at the end of its fraction: a view gives them that its trigger does not. */
function withoutZeros(text: string | null): string | null {
  return text?.includes('.') ? text.replace(/(?<!0)0+$/, '').replace(/\.$/, '') : text
}

/** A value as it would come back out of the book. */
function asBooked(property: Property, text: string | null): string | null {
  return textOfImage(property, castOfSent(text, property.column.type))
}

function toEvent(mapping: Mapping, { event, ...of }: TimelineEvent): HistoryEvent {
  // What gave it this key, or took it, is told as what it did to the record.
  const { before, after } = event ?? of
  const names = [...new Set([...Object.keys(before ?? {}), ...Object.keys(after ?? {})])]
  const changes = mapping.properties.flatMap((property) => {
    const { name } = property.column
    if (!names.includes(name)) return []
    const [old, now] = [before?.[name] ?? null, after?.[name] ?? null]
    if (old === now && before !== null && after !== null) return []
    const shown = (text: string | null) => (isDigest(text) ? text : jsonOfText(text, property))
    return [{ property: property.name, before: shown(old), after: shown(now) }]
  })
  return {
    at: event?.at ?? null,
    entry: event?.id ?? null,
    actor: event?.actor ?? null,
    transaction: event?.transaction ?? null,
    kind: kindOf(event, before, after),
    changes,
    note: event?.note ?? null,
  }
}

function kindOf(event: RecordEvent | null, before: object | null, after: object | null): HistoryEvent['kind'] {
  if (event === null) return 'outside'
  if (event.isReversal) return 'reversed'
  if (before === null) return 'added'
  return after === null ? 'removed' : 'changed'
}

function toRecord(mapping: Mapping, state: Record<string, string | null>): RecordValues {
  const there = mapping.properties.filter(({ column }) => column.name in state)
  const textOf = ({ column }: Property) => state[column.name] ?? null
  const open = there.filter((property) => !isDigest(textOf(property)))
  const hidden = there.filter((property) => !open.includes(property))
  return {
    ...recordFromTexts(mapping, open, open.map(textOf)),
    ...Object.fromEntries(hidden.map((property) => [property.name, textOf(property)])),
  }
}

/** The state with the present values of sensitive properties in place of their digests, where those are the same. */
function withPlain(
  mapping: Mapping,
  state: Record<string, string | null>,
  { now, row, isSame }: Present,
): Record<string, string | null> {
  const plain = mapping.properties.flatMap(({ column: { name } }, at) =>
    row && isDigest(state[name]) && isSame(name, state[name] ?? null, now?.[name] ?? null)
      ? [[name, row[at] ?? null] as const]
      : [],
  )
  return { ...state, ...Object.fromEntries(plain) }
}

function propertyNames(mapping: Mapping, columns: object | null): string {
  const names = Object.keys(columns ?? {})
  return mapping.properties.flatMap(({ name, column }) => (names.includes(column.name) ? [name] : [])).join(', ')
}
