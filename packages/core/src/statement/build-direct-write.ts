import type { Links } from '../mapping/links.js'
import type { Mapping, Property } from '../mapping/mapping.js'
import { finderSql, findsOneAtMost } from './build-load-step.js'
import { imageColumnsSql, imageInsertSql } from './book-sql.js'
import { expectedSql, newValueSql, type AddShape, type WriteInCode, type WriteShape } from './step-shape.js'
import { extraNames } from './found-sql.js'
import { guardHoldsSql, guardValueSql } from './guard-sql.js'
import { pairsOf, valuesDifferSql } from './image-sql.js'
import { insertSql, onConflictSql } from './insert-sql.js'
import { Aliases, Joins } from './joins.js'
import { lockForWrite, guardAfterSql, outputSql } from './keyed-statement.js'
import type { Surroundings } from './record-scope.js'
import { ruleVerdictSql } from './rule-sql.js'
import { versionBumpSql } from './set-sql.js'
import { SlotList, toStatement, type Statement } from './statement.js'
import { conjunction, WriteParts } from './write-parts.js'

type Surround = (slots: SlotList) => Surroundings

/**
 * Builds a step's write as a program sends it: an UPDATE or a DELETE, which finds the row only where it may be written. The common case is then
 * one short statement; where nothing was written, a look at the row says why.
 *
 * @returns null where the step may find several rows, or names rows that UPDATE takes no outer join to: then one statement locks, judges and writes.
 */
export function buildDirectWrite(
  mapping: Mapping,
  {
    kind,
    finder,
    values,
    expected,
    guarded,
    skipLocked,
    touched,
    isRead,
  }: WriteShape & { touched: readonly Property[]; isRead: boolean },
  links: Links,
  surroundingsOf: Surround,
): WriteInCode | null {
  if (!findsOneAtMost(mapping, finder) || skipLocked) return null
  const isRemove = kind === 'remove'
  const { table, properties, guard } = mapping
  const set = values.map(({ property }) => property)
  const lock = lockForWrite(mapping, set, isRemove)
  const partsOf = (slots: SlotList) => {
    const surroundings = surroundingsOf(slots)
    const joins = new Joins(mapping, 't', links, new Aliases())
    return {
      news: values.map((value) => newValueSql(value, joins, slots, surroundings)),
      found: finderSql(mapping, finder, joins, slots, surroundings),
      guardHolds: guarded ? guardHoldsSql(guard, 't', slots) : 'true',
      asExpected: expectedSql(expected, slots),
      joins: joins.sql,
    }
  }
  const differs = (news: readonly string[]) => (isRemove ? 'true' : valuesDifferSql(pairsOf('t', set, news)))
  const ruleOf = (slots: SlotList) => (isRemove ? [] : brokenRuleOf(mapping, slots))

  const write = () => {
    const slots = new SlotList()
    const { news, found, guardHolds, asExpected } = partsOf(slots)
    const assigned = set.map(({ column }, at) => `${column.sql} = ${news[at]}`).concat(versionBumpSql(mapping, 't'))
    const row = isRead ? [outputSql('t', properties), isRemove ? 'null::text' : guardAfterSql(mapping, 't')] : UNREAD
    const given = [...row, ...ruleOf(slots)]
    return toStatement(
      `${isRemove ? `delete from ${table.sql} as t` : `update ${table.sql} as t\nset ${assigned.join(', ')}`}
where ${conjunction([found, guardHolds, asExpected, differs(news)])}
returning ${given.join(', ')}`,
      slots,
    )
  }
  const booked = () => {
    const slots = new SlotList()
    const { found, ...conditions } = partsOf(slots)
    const parts = new WriteParts({
      mapping,
      isRemove,
      set,
      ...conditions,
      from: `${table.sql} as t`,
      condition: found,
      end: [`for ${lock} of t`],
      columns: properties,
      touched: properties,
      guard: guardValueSql(guard, 't'),
    })
    const broken = isRemove ? ['null::integer'] : brokenRuleOf(mapping, slots)
    const rules = broken.slice(0, mapping.rules.length).map((sql) => `${sql} as ${parts.names.broken}`)
    const images = imageColumnsSql(mapping, slots, touched, { before: 'hit', after: isRemove ? null : 't' })
    const written = parts.written(`(\n  ${parts.found()}\n  ) as hit`, { returned: [...rules, ...images] })
    return bookedStatement(mapping, written, slots, isRead)
  }
  const look = () => {
    const slots = new SlotList()
    const { news, found, guardHolds, asExpected } = partsOf(slots)
    const given = [
      outputSql('t', properties),
      guardValueSql(guard, 't'),
      conjunction([guardHolds, asExpected]),
      differs(news),
    ]
    return toStatement(`select ${given.join(', ')}\nfrom ${table.sql} as t\nwhere ${found}\nfor ${lock}`, slots)
  }
  if (partsOf(new SlotList()).joins !== '') return null
  return { write: write(), booked: booked(), look: look(), isDirect: true }
}

/** Builds the addition of one record as a program sends it, and the same with the part that writes its image. */
export function buildDirectAdd(
  mapping: Mapping,
  { values, onExisting, isRead }: AddShape & { isRead: boolean },
  surroundingsOf: Surround,
): WriteInCode {
  const { table, properties } = mapping
  const set = values.map(({ property }) => property)
  const onConflict = onConflictSql(mapping, values, onExisting)
  const valuesOf = (slots: SlotList) => {
    const surroundings = surroundingsOf(slots)
    return `values (${values.map((value) => newValueSql(value, null, slots, surroundings)).join(', ')})`
  }
  const write = () => {
    const slots = new SlotList()
    const given = valuesOf(slots)
    const columns = set.map(({ column }) => column.sql).join(', ')
    const row = isRead ? [outputSql('t', properties), guardAfterSql(mapping, 't')] : UNREAD
    const returned = [...row, ...brokenRuleOf(mapping, slots)]
    return toStatement(
      `insert into ${table.sql} as t ${set.length > 0 ? `(${columns})\n${given}` : 'default values'}${onConflict.replace('\n  ', '\n')}\nreturning ${returned.join(', ')}`,
      slots,
    )
  }
  const booked = () => {
    const slots = new SlotList()
    const given = valuesOf(slots)
    const rules = brokenRuleOf(mapping, slots).map((sql) => `${sql} as ${extraNames(mapping).broken}`)
    const images = imageColumnsSql(mapping, slots, properties, { before: null, after: 't' })
    const written = insertSql(mapping, { set, values: given, onConflict, returned: [...rules, ...images] })
    return bookedStatement(mapping, written, slots, isRead)
  }
  return { write: write(), booked: booked(), look: null, isDirect: true }
}

/** Which rule the row under `t` breaks, where there are rules. */
function brokenRuleOf(mapping: Mapping, slots: SlotList): string[] {
  return mapping.rules.length === 0 ? [] : [ruleVerdictSql(mapping, ({ column }) => `t.${column.sql}`, slots)]
}

/** In place of a record and its guard, where no later step reads them: to read every value takes longer than to send them. */
const UNREAD = ['true']

function bookedStatement(mapping: Mapping, written: string, slots: SlotList, isRead: boolean): Statement {
  const names = extraNames(mapping)
  const given = [
    ...(isRead ? [outputSql('done', mapping.properties), `done.${names.guard}`] : UNREAD),
    ...(mapping.rules.length > 0 ? [`done.${names.broken}`] : []),
  ]
  return toStatement(
    `with done as (\n  ${written}\n)${imageInsertSql(mapping, slots)}\nselect ${given.join(', ')}\nfrom done`,
    slots,
  )
}
