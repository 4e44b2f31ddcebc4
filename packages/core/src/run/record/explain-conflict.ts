import { entryAddress, LedgermanProblem, type Json, type RecordValues } from '@ledgerman/contract'
import { recordEvents, type RecordEvent } from '../../book/record-history.js'
import type { KeyTexts, Mapping } from '../../mapping/mapping.js'
import { othersWrite } from '../../statement/keyed-statement.js'
import type { Target } from '../../target/target.js'
import { showable } from '../../mapping/showable.js'
import { recordFromTexts } from '../../mapping/record-row.js'
import { guardPrefix, isGuardOf } from '../../mapping/guard-value.js'
import { isDigest } from '../../values/digest.js'
import { isSameJson } from '../../values/same-json.js'
import { allEvents } from './all-events.js'

/** How far back a record is followed to explain a conflict. */
const MOST_EVENTS = 200

/**
 * Adds to a conflict what the book knows: what was loaded where the caller did not say (followed back from the current row to the
 * version the guard names), who put there what is there now, and whether your properties and theirs overlap at all.
 */
export async function explainConflict(
  target: Target,
  mapping: Mapping,
  key: KeyTexts,
  guards: readonly string[],
  problem: LedgermanProblem,
  actor: string,
): Promise<LedgermanProblem> {
  const events = await committedTo(target, mapping, key)
  const facts = problem.facts as {
    yours: RecordValues
    current: RecordValues
    loaded: Record<string, unknown>
    unknown?: string[]
    guard: string | null
  }
  const names = Object.keys(facts.yours)
  const known = stateAt(mapping, facts.current, guards, events)
  const sent = Object.fromEntries(
    Object.entries(facts.loaded).filter(([name]) => !(facts.unknown ?? names).includes(name)),
  )
  const loaded = { ...Object.fromEntries(names.map((name) => [name, null])), ...known, ...sent } as RecordValues
  const compared = known ? mapping.properties.map(({ name }) => name) : Object.keys(sent)
  const version = mapping.guard.by === 'version' ? mapping.guard.property.name : undefined
  const theirs = compared.filter(
    (name) =>
      name !== version &&
      name in facts.current &&
      !isSameJson(loaded[name] as Json, facts.current[name] as Json) &&
      isSettable(mapping, name),
  )
  // Of computed values nobody said what they would be.
  const isKnown = names.length > 0 && names.every((name) => compared.includes(name))
  const overlap = isKnown ? names.filter((name) => theirs.includes(name)) : null
  const by = Object.fromEntries(theirs.flatMap((name) => writerOf(mapping, name, facts.current[name], events, target)))
  const shown = known
    ? Object.fromEntries([...new Set([...names, ...theirs])].map((name) => [name, loaded[name] ?? null]))
    : pick(loaded, names)
  const words = [
    whoChanged(by, actor),
    whatMeets(names, theirs, overlap, by, actor),
    whyNoGuard(mapping, facts, guards),
  ]
  const said = noGuardOf(mapping, guards) ?? problem.detail
  return withDetail(problem, [said, ...words].filter(Boolean).join(' ')).with({
    loaded: shown,
    unknown: Object.keys(shown).filter((name) => !compared.includes(name)),
    theirs,
    overlap,
    by,
  })
}

/** What the book knows of a record; nothing where it cannot be read, or is not prepared. */
async function committedTo(target: Target, mapping: Mapping, key: KeyTexts): Promise<RecordEvent[]> {
  try {
    if (mapping.key.length === 0 || !(await target.isBookPrepared())) return []
    return (await allEvents(target, mapping, key, { most: MOST_EVENTS, tellsUnseen: false })).events
  } catch {
    return []
  }
}

type Writers = Readonly<Record<string, { actor: string; at: string }>>

/** Who put there what differs, where the book knows: it may have been the same actor. */
function whoChanged(by: Writers, actor: string): string {
  const writers = [...new Set(Object.values(by).map((each) => each.actor))]
  if (writers.length === 0) return ''
  const names = writers.map((name) => (name === actor ? `${name}, which is you` : name))
  return `It was changed meanwhile by ${names.join(' and ')}.`
}

function whatMeets(
  names: readonly string[],
  theirs: readonly string[],
  overlap: readonly string[] | null,
  by: Writers,
  actor: string,
): string {
  if (overlap === null || theirs.length === 0) return ''
  const isOwn = Object.values(by).every((each) => each.actor === actor)
  const others = isOwn ? 'those changed meanwhile' : 'theirs'
  if (overlap.length > 0)
    return isOwn ? `What differs is ${overlap.join(', ')}.` : `Both of you changed ${overlap.join(', ')}.`
  return `Your properties (${names.join(', ')}) and ${others} (${theirs.join(', ')}) do not overlap: yours can be applied to the current record.`
}

/** How much of what is no guard is said, in characters. */
const LONGEST_TOLD = 60

/** Where none of the guards is of the form that the mapping's have: then nobody knows whether the record is as it was loaded. */
function noGuardOf(mapping: Mapping, guards: readonly string[]): string | undefined {
  if (guards.length === 0 || guards.some((each) => isGuardOf(mapping, each))) return undefined
  const given = guards.join(', ')
  return `${given.length > LONGEST_TOLD ? `${given.slice(0, LONGEST_TOLD)}…` : given} is no guard of ${mapping.name}: those begin with ${guardPrefix(mapping)}, and come with the record when it is loaded. Nothing was changed.`
}

/** A version that is still to come was never loaded; of no other guard can that be told. */
function whyNoGuard({ guard }: Mapping, { current }: { current: RecordValues }, guards: readonly string[]): string {
  if (guard.by !== 'version' || guards.length === 0) return ''
  const now = String(current[guard.property.name] ?? '')
  const isAhead = (each: string) => /^v\d{1,19}$/.test(each) && /^\d+$/.test(now) && BigInt(each.slice(1)) > BigInt(now)
  return guards.every(isAhead) ? `The guard ${guards.join(', ')} is of no version that it had: it is at v${now}.` : ''
}

/** Adds who removed a record that somebody had loaded before, or gave it another key. */
export async function explainRemoved(
  target: Target,
  mapping: Mapping,
  key: KeyTexts,
  problem: LedgermanProblem,
): Promise<LedgermanProblem> {
  const [last] = await recordEvents(target, mapping, key, 1).catch(() => [])
  if (last?.moved === 'away') {
    // A part that is as it was comes from the caller in clear.
    const now = mapping.key.map((property) => {
      const { name, column } = property
      return [name, last.after?.[column.name] ?? showable(target, property, key.get(name) ?? null)] as const
    })
    const words = now.map(([name, text]) => `${name} ${text}`).join(', ')
    return withDetail(
      problem,
      `${problem.detail} It was given another key, ${words}, by ${last.actor} at ${last.at}, after you loaded it.`,
    ).with({
      moved: {
        actor: last.actor,
        at: last.at,
        entry: entryAddress(target.name, last.id),
        key: Object.fromEntries(now),
      },
    })
  }
  if (!last || last.kind !== 'remove') return problem
  const removed = { actor: last.actor, at: last.at, entry: entryAddress(target.name, last.id) }
  return withDetail(
    problem,
    `${problem.detail} It was removed by ${last.actor} at ${last.at}, after you loaded it; what it was is in the book.`,
  ).with({ removed })
}

/** Follows the record back to the version a guard names; undefined where the book does not reach there without a gap. */
function stateAt(
  mapping: Mapping,
  current: RecordValues,
  guards: readonly string[],
  events: readonly RecordEvent[],
): RecordValues | undefined {
  if (mapping.guard.by !== 'version') return undefined
  const { column, name } = mapping.guard.property
  const wanted = guards.find((guard) => /^v-?\d+$/.test(guard))?.slice(1)
  if (wanted === undefined) return undefined
  let at = String(current[name])
  const state = { ...current }
  for (const { before, after } of events) {
    if (at === wanted) break
    // Somebody wrote past the book: what was there cannot be told.
    if (!before || !after || after[column.name] !== at) return undefined
    for (const property of mapping.properties) {
      const text = before[property.column.name]
      // Another mapping's image may lack what a trigger changed.
      if (text === undefined && othersWrite(mapping.table)) return undefined
      // What was sensitive then is known to nobody.
      if (!property.sensitive && isDigest(text)) return undefined
      if (text !== undefined && !property.sensitive) Object.assign(state, recordFromTexts(mapping, [property], [text]))
    }
    at = before[column.name] ?? ''
  }
  return at === wanted ? state : undefined
}

/** The newest entry that put a property's current value there. */
function writerOf(mapping: Mapping, name: string, value: unknown, events: readonly RecordEvent[], target: Target) {
  const property = mapping.byName.get(name)
  if (!property) return []
  const column = property.column.name
  const event = events.find(
    ({ before, after }) => after && before && column in after && before[column] !== after[column],
  )
  if (!event?.after || isDigest(event.after[column])) return []
  const put = recordFromTexts(mapping, [property], [event.after[column] ?? null])[name]
  if (!isSameJson(put as Json, value as Json)) return []
  return [[name, { actor: event.actor, at: event.at, entry: entryAddress(target.name, event.id) }]]
}

function isSettable(mapping: Mapping, name: string): boolean {
  return mapping.byName.get(name)?.lockedBecause === null
}

function pick(values: RecordValues, names: readonly string[]): RecordValues {
  return Object.fromEntries(names.map((name) => [name, values[name]]))
}

function withDetail(problem: LedgermanProblem, detail: string): LedgermanProblem {
  return new LedgermanProblem(problem.code, detail, problem.facts, { cause: problem.cause })
}
