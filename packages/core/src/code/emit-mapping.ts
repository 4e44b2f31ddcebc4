import { guardHoldsSql, guardValueSql } from '../statement/guard-sql.js'
import { isUnique, keyConditionSql, sameKeySql } from '../statement/key-sql.js'
import { extraNames } from '../statement/found-sql.js'
import { brokenRuleSql, guardAfterSql, onlyOneSql, outputSql } from '../statement/keyed-statement.js'
import { SlotList } from '../statement/statement.js'
import { storedSql } from '../values/sql-form.js'
import { ChangeCode } from './change-code.js'
import { HOLE, unmarked, withHole } from './mapping-code.js'
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

class MappingFile extends ChangeCode {
  load(): string {
    const { mapping, type } = this
    const slots = new SlotList()
    const condition = keyConditionSql(mapping.key, 't', slots)
    const { list, isPlain } = this.selectList()
    const run = isPlain
      ? `const rows = await s.ask(db, LOAD, [${this.binds(slots.slots, 'key')}])`
      : `const rows = await s.inTransaction(db, LIMITS, (client) => s.ask(client, LOAD, [${this.binds(slots.slots, 'key')}]))`
    return `const LOAD = \`
select ${inTemplate(list)}${inTemplate(this.guard.column)}
from ${inTemplate(mapping.table.sql)} as t
where ${inTemplate(condition)}${isUnique(mapping, mapping.key) ? '' : '\nlimit 2'}\`

/**
 * Loads one record by its key.
 *
 * @throws RecordMissing, RecordAmbiguous, ValueInvalid
 */
export async function ${this.fn.load}(db: s.Db, key: ${type}Key): Promise<s.Loaded<${type}>> {
  ${run}
  ${this.notOne('key')}
  const [row = []] = rows
  return loadedFrom(row)
}
`
  }

  replace(): string {
    const { type, writable } = this
    return `/**
 * Replaces every property that can be set. What was there and is not named cannot be lost: the type asks for all.
 *
 * @throws as ${this.fn.change}
 */
export async function ${this.fn.replace}(
  db: s.Db,
  loaded: s.Loaded<${type}>,
  values: Pick<${type}, ${writable.map(({ name }) => quoted(name)).join(' | ')}>,
): Promise<s.Written<${type}>> {
  const missing = Object.keys(SET).filter((name) => values[name as keyof typeof values] === undefined)
  if (missing.length > 0) throw new s.ValueInvalid(missing.join(', '), 'a value: a replacement leaves nothing out')
  return ${this.fn.change}(db, loaded, values)
}
`
  }

  add(): string {
    const { mapping, type, addable } = this
    const { properties, table } = mapping
    const slots = new SlotList()
    const extra = extraNames(mapping)
    const rule = unmarked(brokenRuleSql(mapping, `done.${extra.written}`, ({ column }) => `done.${column.sql}`, slots))
    const fixed = slots.slots.length
    const entry = this.entryPart(`set.length + ${fixed}`, {
      before: null,
      after: 'done',
      touched: this.all,
      from: 'done',
      where: 'true',
    })
    const columns = addable.map(
      ({ name, column }) =>
        `  ${memberName(name)}: [\`${inTemplate(column.sql)}\`, (bind) => \`${withHole(storedSql(HOLE, column.type), '${bind}')}\`],\n`,
    )
    return `const ADD: Readonly<Record<keyof ${type}Values, readonly [column: string, stored: (bind: string) => string]>> = {
${columns.join('')}}

const insertText = s.madeOnce((set: readonly (keyof ${type}Values)[]) => {
  const parts = set.map((name) => ADD[name])
  const columns = parts.map(([column]) => column).join(', ')
  const binds = parts.map(([, stored], at) => stored(\`$\${at + ${fixed + 1}}\`)).join(', ')
  const added = \`
with done as (
  insert into ${inTemplate(table.sql)} as t \${set.length > 0 ? \`(\${columns}) values (\${binds})\` : 'default values'}
  returning ${inTemplate(properties.map(({ column }) => `t.${column.sql}`).join(', '))}, ${inTemplate(guardAfterSql(mapping, 't'))} as ${extra.guard}, true as ${extra.written}
)\`
  const told = \`
select done.${extra.guard}, ${inTemplate(rule)}, ${inTemplate(outputSql('done', properties))} from done\`
${
  this.isBooked
    ? `  const entry = ${entry}
  const statement = booked('add', added + told, [${[this.slotCode(slots.slots), '...set.map((name) => BOOKED[name])'].filter(Boolean).join(', ')}], ${this.all})
  return { statement, run: added + entry + told }`
    : `  return added + told`
}
})

/**
 * Adds one record.
 *
 * @throws RuleBroken, ConstraintBroken, LockTimeout, ValueInvalid; OutcomeUnknown
 */
export async function ${this.fn.add}(db: s.Db, given: ${type}Values): Promise<s.Written<${type}>> {
  const set = s.namesOf<keyof ${type}Values>(given, ADD)
  const ${this.isBooked ? '{ statement, run }' : 'text'} = insertText(set)
  const values = [${[this.binds(slots.slots, 'key'), '...set.map((name) => s.writeValue(WRITE[name], given[name], name))'].filter(Boolean).join(', ')}]
${this.transaction(
  'add',
  'statement',
  this.isBooked ? 'run' : 'text',
  `const [row] = rows
    if (!row) throw new s.RowNotWritten(${quoted(`${mapping.name}: the record was not added: a trigger kept it out.`)})
    ${this.assertRule('row[1]')}
    const result = { record: recordOf(row, 2), guard: s.toGuard(row[0], ${quoted(this.letter)}), matched: 1, changed: 1 }`,
)}
}
${mapping.key.length > 0 && this.writable.length > 0 ? '' : this.rules()}`
  }

  remove(): string {
    const { mapping, type } = this
    const { table, guard, properties } = mapping
    const slots = new SlotList()
    const extra = extraNames(mapping)
    const condition = keyConditionSql(mapping.key, 't', slots)
    const guardHolds = guard.by === 'none' ? 'true' : guardHoldsSql(guard, 't', slots)
    const mayWrite = [`hit.${extra.guard_holds}`, ...onlyOneSql(mapping)].join(' and ')
    const entry = this.entryPart(String(slots.slots.length), {
      before: 'hit',
      after: null,
      touched: this.all,
      from: 'hit left join done on true',
      where: `done.${extra.written}`,
    })
    return `const REMOVED = \`
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
)\`

const TOLD = \`
select ${inTemplate(outputSql('hit', properties))}, hit.${extra.guard_holds}, done.${extra.written}, hit.${extra.guard}
from hit left join done on true\`
${
  this.isBooked
    ? `
const REMOVE = REMOVED + ${entry} + TOLD

const REMOVAL = booked('remove', REMOVED + TOLD, [${this.slotCode(slots.slots)}], ${this.all})
`
    : ''
}
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
  'remove',
  'REMOVAL',
  this.isBooked ? 'REMOVE' : 'REMOVED + TOLD',
  `${this.notOne('key')}
    const [row = []] = rows
    const record = recordOf(row)
    const guard = s.toGuard(row[${properties.length + 2}], ${quoted(this.letter)})
    if (row[${properties.length}] !== 't')
      throw new s.RecordChanged(${quoted(`${mapping.name}: the record is not as it was loaded.`)}, { ...loaded.record }, {}, { ...record }, guard)
    if (row[${properties.length + 1}] !== 't') throw new s.RowNotWritten(${quoted(`${mapping.name}: the record was found, and not removed.`)})
    const result = { record, guard: null, matched: 1, changed: 1 }`,
)}
}
`
  }
}
