import type { Mapping, Property } from '../mapping/mapping.js'
import { AskedSlots, askedSql } from './asked-slots.js'
import { bookInsertSql } from './book-sql.js'
import { extraNames } from './found-sql.js'
import { guardHoldsSql, guardValueSql } from './guard-sql.js'
import { comparableImageSql } from './image-sql.js'
import { keyConditionSql } from './key-sql.js'
import {
  actorSql,
  boundValueSql,
  lockForWrite,
  mayWait,
  onlyOneSql,
  outputSql,
  touchedBy,
  verdictOrRaiseSql,
  verdictSql,
  type KeyedKind,
  type KeyedStatement,
} from './keyed-statement.js'
import { mergedSql, type MergePlan } from './merge-sql.js'
import { aroundWrite, shortKeySql, shortWriteText, toShortForm } from './short-form.js'
import { SlotList, toStatement, type ShortForm, type Statement } from './statement.js'
import { conjunction, WriteParts } from './write-parts.js'

/** What a change or a removal of one record sets, and on which conditions. */
export interface KeyedShape {
  kind: Exclude<KeyedKind, 'add'>
  /** Nothing where the record is removed. */
  set: readonly Property[]
  /** For those of `set` that are json and of which only parts are set: which parts. */
  merges: ReadonlyMap<Property, MergePlan>
  /** Properties that have to have the bound values, or nothing is written. */
  expected: readonly Property[]
  /** Whether a guard is checked; false only where the caller said that any state of the record will do. */
  guarded: boolean
}

/**
 * Builds the change or the removal of one record as one statement that locks, judges, writes and books.
 *
 * The book's row is written only where the change was; a row that should have been written and was not raises, so that nothing a trigger
 * did in its place stays behind.
 */
export function buildKeyedWrite(mapping: Mapping, shape: KeyedShape, isBooked: boolean): KeyedStatement {
  const step = keyedWrite(mapping, shape, { isBooked: false, isShared: false })
  return {
    kind: shape.kind,
    step,
    run: isBooked ? keyedWrite(mapping, shape, { isBooked: true, isShared: false }) : step,
    shared:
      isBooked && isSharable(mapping, shape) ? keyedWrite(mapping, shape, { isBooked, isShared: true }) : undefined,
    set: [...shape.set],
    touched: touchedOf(mapping, shape),
  }
}

/**
 * Whether callers cannot get into each other's way: where triggers, policies or rules see the statement, or a write may have to wait for
 * another table's row or another row's value, each asks alone.
 */
function isSharable(mapping: Mapping, { kind, set, merges }: KeyedShape): boolean {
  const { table } = mapping
  return kind !== 'remove' && table.isPlain && !table.rowSecurity && merges.size === 0 && !mayWait(mapping, set)
}

/**
 * Shared, it is the write of several callers, each with a record, guard, values and entry of their own: its rows begin with the caller's
 * place, from 1, and its slots are those of the booked statement, each an array, but in another order. A row that somebody else has locked is
 * left out, so that no caller waits for another's lock; whoever gets no row, or one that was not written and should have been, asks alone.
 */
function keyedWrite(
  mapping: Mapping,
  shape: KeyedShape,
  { isBooked, isShared }: { isBooked: boolean; isShared: boolean },
): Statement {
  const { set, merges, expected, guarded } = shape
  const slots = isShared ? new AskedSlots() : new SlotList()
  const isRemove = shape.kind === 'remove'
  const { sql } = mapping.table
  const names = extraNames(mapping)
  const touched = touchedOf(mapping, shape)
  const news = set.map((property) => newValueSql(property, merges.get(property), slots))
  const key = keyConditionSql(mapping.key, 't', slots)
  const lock = lockForWrite(mapping, set, isRemove)
  const parts = new WriteParts({
    mapping,
    isRemove,
    set,
    news,
    columns: mapping.properties,
    touched,
    guard: guardValueSql(mapping.guard, 't'),
    guardHolds: guarded ? guardHoldsSql(mapping.guard, 't', slots) : 'true',
    asExpected: comparableImageSql(expected, 't', slots),
    from: `${sql} as t`,
    condition: key,
    end: [`for ${lock} of t${isShared ? ' skip locked' : ''}`],
    beside: [isShared ? `asked.place as ${names.place}` : `${actorSql(slots)} as ${names.actor}`],
    // In a join the whole of a table of a few thousand rows would be read: that is what the planner takes for cheaper.
    ...(isShared ? { forEach: 'asked' } : {}),
  })
  const place = isShared ? [`hit.${names.place}`] : []
  const onlyOne = onlyOneSql(mapping)
  const isWritten = `done.${names.written}`
  const mayWrite = conjunction([parts.may(), ...onlyOne])
  const joined = `hit left join done on ${isShared ? `done.${names.place} = hit.${names.place}` : 'true'}`
  const brokenRule = parts.brokenRule(slots)
  const both = isShared ? `asked join ${joined} on asked.place = hit.${names.place}` : joined
  const book = isBooked
    ? bookInsertSql({
        mapping,
        slots,
        key: 'hit',
        changed: isWritten,
        before: { alias: 'hit', properties: touched },
        after: isRemove ? null : { alias: 'done', properties: touched },
        from: both,
        where: isRemove ? isWritten : conjunction([mayWrite, `(not ${parts.flag('differs')} or ${isWritten})`]),
      })
    : ''
  const verdict = verdictSql(parts.flag('guard_holds'), parts.flag('as_expected'), parts.flag('differs'), isWritten)
  const unwritten = isShared ? 'false' : conjunction([...onlyOne, parts.unwritten()])
  const rule = verdictOrRaiseSql(isBooked, unwritten, brokenRule)
  const output = [
    [...place, outputSql('hit', mapping.properties)].join(', '),
    `${verdict}, hit.${names.guard}, done.${names.guard}, ${rule}`,
    ...(isRemove ? [] : [outputSql('done', touched)]),
  ]
  return toStatement(
    `with ${isShared ? `asked as materialized (\n  select * from ${askedSql(slots)}\n), ` : ''}hit as (
  ${parts.found()}
), done as (
  ${parts.written('hit', { conditions: onlyOne, returned: place, isLean: isRemove })}
)${book}
select ${output.join(',\n  ')}
from ${isShared && mapping.rules.length > 0 ? both : joined}`,
    slots,
    () => (isShared ? undefined : shortKeyedWrite(mapping, shape, slots)),
  )
}

function shortKeyedWrite(mapping: Mapping, shape: KeyedShape, whole: SlotList): ShortForm | undefined {
  const slots = new SlotList()
  const { kind, set, merges, expected, guarded } = shape
  const isRemove = kind === 'remove'
  const news = set.map((property) => newValueSql(property, merges.get(property), slots))
  const condition = shortKeySql(mapping.key, slots)
  const checks = { isOne: true, isGuarded: guarded, expected, differs: !isRemove, isRemove }
  return toShortForm(
    shortWriteText({ mapping, isRemove, set, news, condition, joins: '' }),
    slots,
    whole,
    aroundWrite(mapping, checks),
  )
}

function touchedOf(mapping: Mapping, { kind, set }: KeyedShape): Property[] {
  return kind === 'remove' ? mapping.properties : touchedBy(mapping, set)
}

/** The new value of a property: bound, or made from the current one where only parts are set. */
function newValueSql(property: Property, plan: MergePlan | undefined, slots: SlotList): string {
  return plan ? mergedSql(property, plan, 't', slots) : boundValueSql(property, slots)
}
