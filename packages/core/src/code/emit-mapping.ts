import type { Property } from '../mapping/mapping.js'
import { guardHoldsSql, guardValueSql } from '../statement/guard-sql.js'
import { asComparable } from '../statement/image-sql.js'
import { keyConditionSql, sameKeySql } from '../statement/key-sql.js'
import {
  brokenRuleSql,
  changesKey,
  freshNames,
  guardAfterSql,
  mayWriteSql,
  outputSql,
  verdictSql,
} from '../statement/keyed-statement.js'
import { versionBumpSql } from '../statement/set-sql.js'
import { SlotList } from '../statement/statement.js'
import { storedSql } from '../values/sql-form.js'
import { HOLE, unmarked, withHole } from './mapping-code.js'
import { FindCode } from './find-code.js'
import type { MappingNames } from './names.js'
import { inTemplate, memberName, quoted } from './text.js'

/**
 * Writes the file of a mapping: its types, and functions that load, find, change, replace, add and remove its records. A mapping
 * without a key has types and a find.
 *
 * @param isBooked whether what it changes is written to the target's book.
 */
export function emitMapping({ mapping, type, finds }: MappingNames, isBooked: boolean): string {
  const code = new MappingFile(mapping, type, isBooked)
  return [
    code.header(),
    code.types(),
    code.columns(),
    code.booked(),
    mapping.key.length > 0 ? code.load() : '',
    code.find(),
    ...finds.map((find) => code.namedFind(find)),
    mapping.key.length > 0 && code.writable.length > 0 ? code.change() : '',
    mapping.key.length > 0 && code.writable.length > 0 ? code.replace() : '',
    code.addable.length > 0 && mapping.table.kind !== 'materialized view' ? code.add() : '',
    mapping.key.length > 0 && mapping.table.kind !== 'materialized view' ? code.remove() : '',
  ]
    .filter(Boolean)
    .join('\n')
}

class MappingFile extends FindCode {
  load(): string {
    const { mapping, type } = this
    const slots = new SlotList()
    const condition = keyConditionSql(mapping.key, 't', slots)
    const { list, isPlain } = this.selectList()
    const run = isPlain
      ? `const rows = await s.ask(db, LOAD, [${this.binds(slots.slots, 'key')}])`
      : `const rows = await s.inTransaction(db, s.LIMITS, (client) => s.ask(client, LOAD, [${this.binds(slots.slots, 'key')}]))`
    return `const LOAD = \`
select ${inTemplate(list)}, ${inTemplate(guardValueSql(mapping.guard, 't'))}
from ${inTemplate(mapping.table.sql)} as t
where ${inTemplate(condition)}
limit 2\`

/**
 * Loads one record by its key.
 *
 * @throws RecordMissing, RecordAmbiguous, ValueInvalid
 */
export async function ${this.fn.load}(db: s.Db, key: ${type}Key): Promise<s.Loaded<${type}>> {
  ${run}
  s.expectCount(${quoted(mapping.name)}, 'one', rows.length, true)
  const [row = []] = rows
  return { record: s.readRecord<${type}>(READ, row), guard: s.toGuard(row[${mapping.properties.length}], ${quoted(this.letter)}) }
}
`
  }

  change(): string {
    const { mapping, type, writable } = this
    const { table, guard, properties } = mapping
    const slots = new SlotList()
    const extra = freshNames(mapping, ['guard_holds', 'differs', 'guard', 'written'])
    const condition = keyConditionSql(mapping.key, 't', slots)
    const guardHolds = guard.by === 'none' ? 'true' : guardHoldsSql(guard, 't', slots)
    const written = `done.${extra.written}`
    const rule = unmarked(brokenRuleSql(mapping, written, ({ column }) => `done.${column.sql}`, slots))
    const mayWrite = mayWriteSql(mapping, `hit.${extra.guard_holds}`)
    const uniques = writable.filter((property) => changesKey(mapping, [property]))
    const fixed = slots.slots.length
    const set = writable.map(({ name, column }) => {
      const next = storedSql(HOLE, column.type)
      const now = asComparable(`t.${column.sql}`, column.type.kind)
      return `  ${memberName(name)}: {
    column: \`${inTemplate(column.sql)}\`,
    now: \`${inTemplate(now)}\`,
    stored: (bind) => \`${withHole(next, '${bind}')}\`,
    compared: (bind) => \`${withHole(asComparable(next, column.type.kind), '${bind}')}\`,
    isUnique: ${uniques.includes(writable.find((each) => each.name === name) as Property)},
  },\n`
    })
    const bump = versionBumpSql(mapping, 'hit').map((each) => `, ${each}`)
    return `interface Settable {
  column: string
  /** The column as it is compared, and the value that is bound, as it is stored and as it is compared. */
  now: string
  stored: (bind: string) => string
  compared: (bind: string) => string
  /** Whether it is part of a unique index: then PostgreSQL locks the row harder. */
  isUnique: boolean
}

const SET: Readonly<Record<keyof ${type}Changes, Settable>> = {
${set.join('')}}

/** Locks the row, judges what was locked, and writes it where it differs. */
function changeText(set: readonly (keyof ${type}Changes)[]): string {
  const binds = set.map((_, at) => \`$\${at + ${fixed + 1}}\`)
  const parts = set.map((name) => SET[name])
  const now = parts.map((part) => part.now).join(', ')
  const next = parts.map((part, at) => part.compared(binds[at] ?? '')).join(', ')
  const assignments = parts.map((part, at) => \`\${part.column} = \${part.stored(binds[at] ?? '')}\`).join(', ')
  return \`
with hit as (
  select ${inTemplate(properties.map(({ column }) => `t.${column.sql}`).join(', '))},
    ${inTemplate(guardHolds)} as ${extra.guard_holds},
    pg_catalog.record_image_ne(row(\${now}), row(\${next})) as ${extra.differs},
    ${inTemplate(guardValueSql(guard, 't'))} as ${extra.guard}
  from ${inTemplate(table.sql)} as t
  where ${inTemplate(condition)}
  for \${parts.some((part) => part.isUnique) ? 'update' : '${table.kind === 'view' ? 'update' : 'no key update'}'}
), done as (
  update ${inTemplate(table.sql)} as t
  set \${assignments}${inTemplate(bump.join(''))}
  from hit
  where ${inTemplate(sameKeySql(mapping.key, 't', 'hit'))} and ${inTemplate(mayWrite)} and hit.${extra.differs}
  returning ${inTemplate(properties.map(({ column }) => `t.${column.sql}`).join(', '))}, ${inTemplate(guardAfterSql(mapping, 't'))} as ${extra.guard}, true as ${extra.written}
)
select ${inTemplate(outputSql('hit', properties))},
  ${inTemplate(verdictSql(`hit.${extra.guard_holds}`, 'true', `hit.${extra.differs}`, written))}, hit.${extra.guard}, done.${extra.guard}, ${inTemplate(rule)},
  ${inTemplate(outputSql('done', properties))}
from hit left join done on true\`
}

/**
 * Changes the named properties of one record, where it is still as it was loaded. A record that has these values already is not written.
 *
 * @throws RecordMissing, RecordChanged, RuleBroken, ConstraintBroken, LockTimeout, ValueInvalid; OutcomeUnknown
 */
export async function ${this.fn.change}(
  db: s.Db,
  loaded: s.Loaded<${type}>,
  changes: ${type}Changes,
): Promise<s.Written<${type}>> {
  const set = s.namesOf<keyof ${type}Changes>(changes, SET)
  if (set.length === 0) throw new s.ValueInvalid('changes', 'at least one property')
  const key = loaded.record
  const text = changeText(set)
  const values = [${this.binds(slots.slots, 'key')}, ...set.map((name) => s.writeValue(WRITE[name], changes[name], name))]
${this.transaction(
  `booked('change', text, [${this.slotCode(slots.slots)}, ...set.map((name) => BOOKED[name])])`,
  `const rows = await s.ask(client, text, values)
    const result = judged(rows, loaded, partOf(changes, set))`,
  { before: 0, after: properties.length + 4 },
)}
}

${this.judged()}`
  }

  replace(): string {
    const { type, writable } = this
    return `/**
 * Replaces every property that can be set. What was there and is not named cannot be lost: the type asks for all.
 *
 * @throws as ${this.fn.change}
 */
export function ${this.fn.replace}(
  db: s.Db,
  loaded: s.Loaded<${type}>,
  values: Pick<${type}, ${writable.map(({ name }) => quoted(name)).join(' | ')}>,
): Promise<s.Written<${type}>> {
  const missing = Object.keys(SET).filter((name) => !Object.hasOwn(values, name))
  if (missing.length > 0) throw new s.ValueInvalid(missing.join(', '), 'a value: a replacement leaves nothing out')
  return ${this.fn.change}(db, loaded, values)
}
`
  }

  add(): string {
    const { mapping, type, addable } = this
    const { properties, table } = mapping
    const slots = new SlotList()
    const extra = freshNames(mapping, ['guard', 'written'])
    const rule = unmarked(brokenRuleSql(mapping, `done.${extra.written}`, ({ column }) => `done.${column.sql}`, slots))
    const fixed = slots.slots.length
    const columns = addable.map(
      ({ name, column }) =>
        `  ${memberName(name)}: [\`${inTemplate(column.sql)}\`, (bind) => \`${withHole(storedSql(HOLE, column.type), '${bind}')}\`],\n`,
    )
    return `const ADD: Readonly<Record<keyof ${type}Values, readonly [column: string, stored: (bind: string) => string]>> = {
${columns.join('')}}

/**
 * Adds one record.
 *
 * @throws RuleBroken, ConstraintBroken, LockTimeout, ValueInvalid; OutcomeUnknown
 */
export async function ${this.fn.add}(db: s.Db, given: ${type}Values): Promise<s.Written<${type}>> {
  const set = s.namesOf<keyof ${type}Values>(given, ADD)
  const parts = set.map((name) => ADD[name])
  const columns = parts.map(([column]) => column).join(', ')
  const binds = parts.map(([, stored], at) => stored(\`$\${at + ${fixed + 1}}\`)).join(', ')
  const text = \`
with done as (
  insert into ${inTemplate(table.sql)} as t \${set.length > 0 ? \`(\${columns}) values (\${binds})\` : 'default values'}
  returning ${inTemplate(properties.map(({ column }) => `t.${column.sql}`).join(', '))}, ${inTemplate(guardAfterSql(mapping, 't'))} as ${extra.guard}, true as ${extra.written}
)
select done.${extra.guard}, ${inTemplate(rule)}, ${inTemplate(outputSql('done', properties))} from done\`
  const values = [${[this.binds(slots.slots, 'key'), '...set.map((name) => s.writeValue(WRITE[name], given[name], name))'].filter(Boolean).join(', ')}]
${this.transaction(
  `booked('add', text, [${[this.slotCode(slots.slots), '...set.map((name) => BOOKED[name])'].filter(Boolean).join(', ')}])`,
  `const rows = await s.ask(client, text, values)
    const [row] = rows
    if (!row) throw new s.RowNotWritten(${quoted(`${mapping.name}: the record was not added: a trigger kept it out.`)})
    ${this.assertRule('row[1]')}
    const result = { record: s.readRecord<${type}>(READ, row, 2), guard: s.toGuard(row[0], ${quoted(this.letter)}), matched: 1, changed: 1 }`,
  { before: null, after: 2 },
)}
}
${mapping.key.length > 0 && this.writable.length > 0 ? '' : this.rules()}`
  }

  remove(): string {
    const { mapping, type } = this
    const { table, guard, properties } = mapping
    const slots = new SlotList()
    const extra = freshNames(mapping, ['guard_holds', 'guard', 'written'])
    const condition = keyConditionSql(mapping.key, 't', slots)
    const guardHolds = guard.by === 'none' ? 'true' : guardHoldsSql(guard, 't', slots)
    const mayWrite = mayWriteSql(mapping, `hit.${extra.guard_holds}`)
    return `const REMOVE = \`
with hit as (
  select ${inTemplate(properties.map(({ column }) => `t.${column.sql}`).join(', '))},
    ${inTemplate(guardHolds)} as ${extra.guard_holds}, ${inTemplate(guardValueSql(guard, 't'))} as ${extra.guard}
  from ${inTemplate(table.sql)} as t
  where ${inTemplate(condition)}
  for update
), done as (
  delete from ${inTemplate(table.sql)} as t
  using hit
  where ${inTemplate(sameKeySql(mapping.key, 't', 'hit'))} and ${inTemplate(mayWrite)}
  returning true as ${extra.written}
)
select ${inTemplate(outputSql('hit', properties))}, hit.${extra.guard_holds}, done.${extra.written}, hit.${extra.guard}
from hit left join done on true\`

/**
 * Removes one record, where it is still as it was loaded.
 *
 * @returns the record as it was.
 * @throws RecordMissing, RecordChanged, ConstraintBroken, LockTimeout; OutcomeUnknown
 */
export async function ${this.fn.remove}(db: s.Db, loaded: s.Loaded<${type}>): Promise<s.Written<${type}>> {
  const key = loaded.record
  const values = [${this.binds(slots.slots, 'key')}]
${this.transaction(
  `booked('remove', REMOVE, [${this.slotCode(slots.slots)}])`,
  `const rows = await s.ask(client, REMOVE, values)
    s.expectCount(${quoted(mapping.name)}, 'one', rows.length, true)
    const [row = []] = rows
    const record = s.readRecord<${type}>(READ, row)
    const guard = s.toGuard(row[${properties.length + 2}], ${quoted(this.letter)})
    if (row[${properties.length}] !== 't')
      throw new s.RecordChanged(${quoted(`${mapping.name}: the record is not as it was loaded.`)}, { ...loaded.record }, {}, { ...record }, guard)
    if (row[${properties.length + 1}] !== 't') throw new s.RowNotWritten(${quoted(`${mapping.name}: the record was found, and not removed.`)})
    const result = { record, guard: null, matched: 1, changed: 1 }`,
  { before: 0, after: null },
)}
}
`
  }

  /** What a change's row says. */
  protected judged(): string {
    const { mapping, type } = this
    const width = mapping.properties.length
    return `const { partOf } = s

/** What became of a change: its row holds the record before, a verdict, both guards, a broken rule, and the record after. */
function judged(rows: s.Row[], loaded: s.Loaded<${type}>, yours: Record<string, unknown>): s.Written<${type}> {
  s.expectCount(${quoted(mapping.name)}, 'one', rows.length, true)
  const [row = []] = rows
  const before = s.readRecord<${type}>(READ, row)
  const [guardHolds, , differs, written] = row[${width}] ?? ''
  const guard = s.toGuard(row[${width + 1}], ${quoted(this.letter)})
  if (guardHolds !== 't') {
    const names = Object.keys(yours)
    const [was, is] = [partOf(loaded.record, names), partOf(before, names)]
    throw new s.RecordChanged(${quoted(`${mapping.name}: the record is not as it was loaded.`)}, was, yours, is, guard)
  }
  if (differs !== 't') return { record: before, guard, matched: 1, changed: 0 }
  if (written !== 't') throw new s.RowNotWritten(${quoted(`${mapping.name}: the record was found, and not written.`)})
  ${this.assertRule(`row[${width + 3}]`)}
  const after = s.readRecord<${type}>(READ, row, ${width + 4})
  return { record: after, guard: s.toGuard(row[${width + 2}], ${quoted(this.letter)}), matched: 1, changed: 1 }
}
${this.rules()}`
  }
}
