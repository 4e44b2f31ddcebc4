import { createHash } from 'node:crypto'

/** One bind variable of a statement: what it is called, how it is typed, and where its value comes from. */
export interface Slot {
  /** As receipts show it: a property's name, or `:actor` and the like for what Ledgerman adds. */
  name: string
  /** The type it is cast to in the text. */
  type: string
  sensitive: boolean
  source: SlotSource
}

export type SlotSource =
  | { from: 'key' | 'set' | 'expected'; property: string }
  | { from: 'merged'; at: number }
  | { from: 'literal'; at: number; text: string }
  | { from: 'guard' | 'actor' | 'limit' | 'digest key' }
  | { from: 'entry'; field: EntryField }

export type EntryField = 'id' | 'statement' | 'binds' | 'note'

/**
 * A statement that was built and not run: text without a single value in it, and its slots. `slots[n - 1]` is `$n`.
 */
export interface Statement {
  text: string
  slots: Slot[]
  /** Under which it is prepared once a session: a digest of the text. */
  name: string
}

/** Collects the slots of a statement while its text is written. */
export class SlotList {
  readonly slots: Slot[] = []

  /** Adds a slot, or finds the one with the same source, and gives its placeholder `$n`. */
  add(slot: Slot): string {
    const at = this.slots.findIndex((each) => isSameSource(each.source, slot.source))
    return `$${at >= 0 ? at + 1 : this.slots.push(slot)}`
  }
}

/** Puts a text and its slots together. */
export function toStatement(text: string, list: SlotList): Statement {
  return { text, slots: list.slots, name: `lm_${createHash('sha256').update(text).digest('hex').slice(0, 24)}` }
}

/** Lays the values out in the order of the statement's slots. */
export function bindValues(statement: Statement, valueOf: (source: SlotSource) => string | null): (string | null)[] {
  return statement.slots.map((slot) => valueOf(slot.source))
}

function isSameSource(one: SlotSource, other: SlotSource): boolean {
  return JSON.stringify(one) === JSON.stringify(other)
}
