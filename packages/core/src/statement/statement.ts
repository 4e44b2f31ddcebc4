import { createHash } from 'node:crypto'
import type { LedgermanProblem } from '@ledgerman/contract'
import { expressionProblem } from '../values/expression/expression-problem.js'
import type { ColumnType } from '../values/column-type.js'

/** One bind variable of a statement: what it is called, how it is typed, and where its value comes from. */
export interface Slot {
  /** As receipts show it: a property's name, or `:actor` and the like for what Ledgerman adds. */
  name: string
  /** The type it is cast to in the text. */
  type: string
  sensitive: boolean
  source: SlotSource
  /** The step it belongs to, where several are one statement and it means something else in each. */
  step?: number
}

export type SlotSource =
  | { from: 'key' | 'set' | 'expected'; property: string }
  | { from: 'merged'; at: number }
  | { from: 'literal'; expression: number; at: number; text: string | null }
  | { from: 'parameter'; name: string; isList: boolean; as: ColumnType | null }
  | { from: 'loaded'; name: string; property: string }
  | { from: 'outcome'; of: 'changed' | 'matched'; name: string }
  | { from: 'value'; text: string | null; at: string }
  | { from: 'place' | 'step'; at: number }
  | { from: 'line'; of: 'first' | 'last' }
  | { from: 'guard' | 'loaded guard' | 'actor' | 'limit' | 'offset' | 'digest key' }
  | { from: 'entry'; field: EntryField }
  | { from: 'run'; field: RunField }
  | { from: 'bits' }

export type EntryField = 'id' | 'statement' | 'binds' | 'note'

/** What the book says of a run and of its steps: JSON, with places for what only the statement knows (`format` in PostgreSQL). */
export type RunField = 'run' | 'steps'

/** An expression that a statement was made with, and what it is called where it was written, such as `where`. */
export interface StatementExpression {
  label: string
  source: string
}

/**
 * A statement that was built and not run: text without a single value in it, and its slots. `slots[n - 1]` is `$n`.
 */
export interface Statement {
  text: string
  slots: Slot[]
  /** Under which it is prepared once a session: a digest of the text, made when it is first asked for. */
  readonly name: string
  expressions: readonly StatementExpression[]
  /** Which place of which expression a place of the text comes from: in order, `position` in characters from 1. */
  marks: readonly Mark[]
  /** Its short form, made when it is first asked for; undefined where the statement itself is as short. */
  readonly short: ShortForm | undefined
}

/** A statement in short: the few lines a developer would have written by hand. It is shown, and never run. */
export interface ShortForm {
  text: string
  /** Which `$n` of the whole statement each `$n` of this one is: `binds[0]` for `$1`. */
  binds: number[]
  /** What the whole statement does around it, a sentence each. */
  around: string[]
}

export interface Mark {
  position: number
  expression: number
  at: number
}

/** Collects the slots of a statement while its text is written. */
export class SlotList {
  readonly slots: Slot[] = []
  readonly expressions: StatementExpression[] = []
  /** The number of each slot by what makes it one: a long list of them must not be compared one with another. */
  readonly #numbers = new Map<string, number>()

  /** Adds a slot, or finds the one with the same source, and gives its placeholder `$n`. */
  add(slot: Slot): string {
    const identity = this.identityOf(slot)
    let number = this.#numbers.get(identity)
    if (number === undefined) this.#numbers.set(identity, (number = this.slots.push(slot)))
    return `$${number}`
  }

  /** The n of `$n` of the slot with the same source, where there is one. */
  numberOf(slot: Slot): number | undefined {
    return this.#numbers.get(this.identityOf(slot))
  }

  protected identityOf({ source }: Slot): string {
    return JSON.stringify(source)
  }

  /** Numbers an expression that goes into the statement, for `markPlace` and the slots of its literals. */
  expression(label: string, source: string): number {
    const at = this.expressions.findIndex((each) => each.label === label && each.source === source)
    return at >= 0 ? at : this.expressions.push({ label, source }) - 1
  }
}

/**
 * Marks the next character of the text as coming from this place of an expression. U+0000 can stand in no name and no
 * keyword, so `toStatement` finds all marks and takes them out.
 */
export function markPlace(expression: number, at: number): string {
  return `\0${expression}:${at}\0`
}

/**
 * Puts a text and its slots together.
 *
 * @param toShort writes the short form, where the statement has one.
 */
export function toStatement(
  markedText: string,
  list: SlotList,
  toShort: () => ShortForm | undefined = () => undefined,
): Statement {
  const marks: Mark[] = []
  let position = 1
  const text = markedText
    .split('\0')
    .filter((part, number) => {
      // Every second part stands between two NULs: a mark.
      if (number % 2 === 0) {
        position += charactersIn(part)
        return true
      }
      const [expression = 0, at = 0] = part.split(':').map(Number)
      marks.push({ position, expression, at })
      return false
    })
    .join('')
  let name: string | undefined
  let short: { form: ShortForm | undefined } | undefined
  return {
    text,
    slots: list.slots,
    get name() {
      return (name ??= `lm_${createHash('sha256').update(text).digest('hex').slice(0, 24)}`)
    },
    get short() {
      return (short ??= { form: toShort() }).form
    },
    expressions: list.expressions,
    marks,
  }
}

/** Characters as PostgreSQL counts them, which are not UTF-16's units. */
function charactersIn(text: string): number {
  let count = text.length
  for (let at = 0; at < text.length; at++) if ((text.charCodeAt(at) & 0xfc00) === 0xdc00) count--
  return count
}

/** The expression, and the place in it, that a place of the statement's text comes from, where it comes from one. */
export function placeOf(
  { marks, expressions }: Statement,
  position: number,
): (StatementExpression & { at: number }) | undefined {
  const mark = marks.findLast((each) => each.position <= position)
  const expression = mark && expressions[mark.expression]
  return expression && { ...expression, at: mark.at }
}

/** What is wrong at a place of an expression, told under what it is called where it was written. */
export function problemIn(
  { source, label }: StatementExpression,
  at: number,
  message: string,
  advice?: string,
): LedgermanProblem {
  return expressionProblem(source, at, message, advice).with({ where: label })
}

/** Lays the values out in the order of the statement's slots. */
export function bindValues(
  statement: Statement,
  valueOf: (source: SlotSource, slot: Slot) => string | null,
): (string | null)[] {
  return statement.slots.map((slot) => valueOf(slot.source, slot))
}

/** The same statement behind other words, such as `explain`. */
export function withPrefix(prefix: string, statement: Statement): Statement {
  const marks = statement.marks.map((mark) => ({ ...mark, position: mark.position + prefix.length }))
  return { ...statement, text: prefix + statement.text, marks }
}
