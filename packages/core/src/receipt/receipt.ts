import {
  entryAddress,
  type BindReceipt,
  type Outcome,
  type Receipt,
  type RowReceipt,
  type RunMode,
  type StepKind,
  type StepReceipt,
} from '@ledgerman/contract'
import type { Mapping, Property } from '../mapping/mapping.js'
import type { ShortForm, Slot } from '../statement/statement.js'
import { sentOfCast } from '../values/cast-text.js'
import { digestOfSent, digestText, isDigest } from '../values/digest.js'
import { shownRecord } from './record-row.js'

export interface RunHeader {
  id: string
  target: string
  mode: RunMode
  revision: number | null
  actor: string
  note: string | null
  startedAt: string
}

export function toReceipt(
  header: RunHeader,
  outcome: Outcome,
  durationMs: number | null,
  steps: StepReceipt[],
  reversible: Receipt['reversible'],
): Receipt {
  return {
    id: header.id,
    target: header.target,
    mode: header.mode,
    outcome,
    transaction: null,
    revision: header.revision,
    actor: header.actor,
    note: header.note,
    startedAt: header.startedAt,
    durationMs: durationMs === null ? null : roundMs(durationMs),
    attempts: 1,
    isolation: 'read committed',
    replayed: false,
    steps,
    rehearsal: null,
    entry: header.mode === 'rehearse' ? null : entryAddress(header.target, header.id),
    reversible,
  }
}

export interface StepOutcome {
  matched: number | null
  changed: number | null
  durationMs: number | null
  rows: RowReceipt[]
}

export function toStepReceipt(
  kind: StepKind,
  mapping: string,
  shown: Pick<StepReceipt, 'statement' | 'binds' | 'short'>,
  outcome: StepOutcome,
): StepReceipt {
  const durationMs = outcome.durationMs === null ? null : roundMs(outcome.durationMs)
  return { no: 1, kind, mapping, as: null, skipped: false, ...shown, expected: 'one', ...outcome, durationMs }
}

/** A statement as a receipt shows it: in full, and in short. */
export function toShownStatement(
  { text, short }: { text: string; short?: ShortForm | null | undefined },
  binds: BindReceipt[],
): Pick<StepReceipt, 'statement' | 'binds' | 'short'> {
  if (!short) return { statement: text, binds }
  const own = short.binds.flatMap((number, at) => {
    const bind = binds[number - 1]
    return bind ? [{ ...bind, position: at + 1 }] : []
  })
  return { statement: text, binds, short: { statement: short.text, binds: own, around: short.around } }
}

/** The binds as a receipt shows them: a sensitive value only as its digest. */
export function toBindReceipts(
  slots: readonly Pick<Slot, 'name' | 'type'>[],
  shown: readonly (string | null)[],
): BindReceipt[] {
  return slots.map(({ name, type }, at) => ({ position: at + 1, name, type, value: shown[at] ?? null }))
}

/** The values of these slots as they may be shown and kept. */
export function showableBinds(
  slots: readonly Slot[],
  values: readonly (string | null)[],
  digestKey: Buffer,
): (string | null)[] {
  return slots.map(({ sensitive }, at) => {
    const value = values[at] ?? null
    return sensitive && value !== null ? digestText(digestKey, value) : value
  })
}

/** A value in text form as it may be shown and kept: a sensitive one only as its digest. */
export function showable(
  { digestKey }: { digestKey: Buffer },
  { sensitive, column }: Property,
  text: string | null,
): string | null {
  return sensitive && text !== null ? digestOfSent(digestKey, text, column.type) : text
}

/** A value of an image in the book as PostgreSQL sends it; a digest as it is. */
export function textOfImage({ sensitive, column }: Property, text: string | null): string | null {
  return sensitive || isDigest(text) ? text : sentOfCast(text, column.type)
}

/** Texts of a row's columns before and after, by property; sensitive ones already digested. */
export interface RowImage {
  key: readonly (string | null)[]
  touched: readonly Property[]
  /** Null where there was no record. */
  before: readonly (string | null)[] | null
  /** Null where there is none any more. */
  after: readonly (string | null)[] | null
}

/** One written row: what was set apart from what changed beside it (the version, triggers, generated columns). */
export function toRowReceipt(
  mapping: Mapping,
  { key, touched, before, after }: RowImage,
  wasSet: (property: Property) => boolean,
): RowReceipt {
  const shownKey = shownRecord(mapping.key, key)
  if (before === null || after === null) {
    return {
      key: shownKey,
      before: before && shownRecord(touched, before),
      after: after && shownRecord(touched, after),
    }
  }
  const differing = touched.flatMap((property, at) =>
    before[at] === after[at] ? [] : [{ property, before: before[at] ?? null, after: after[at] ?? null }],
  )
  const beside = differing.filter(({ property }) => !wasSet(property))
  const set = differing.filter(({ property }) => wasSet(property))
  return {
    key: shownKey,
    ...sides(set),
    ...(beside.length > 0 ? { alsoChanged: sides(beside) } : {}),
  }
}

type Differing = { property: Property; before: string | null; after: string | null }[]

function sides(differing: Differing) {
  const properties = differing.map(({ property }) => property)
  const side = (name: 'before' | 'after') =>
    shownRecord(
      properties,
      differing.map((each) => each[name]),
    )
  return { before: side('before'), after: side('after') }
}

/** To a tenth of a millisecond. */
export function roundMs(ms: number): number {
  return Math.round(ms * 10) / 10
}
