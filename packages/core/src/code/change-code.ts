import pg from 'pg'
import { extraNames } from '../statement/found-sql.js'
import { guardHoldsSql, guardIsSql, guardValueSql } from '../statement/guard-sql.js'
import { pairsOf, valuesDifferSql } from '../statement/image-sql.js'
import { isUnique, keyConditionSql, sameKeySql } from '../statement/key-sql.js'
import {
  brokenRuleSql,
  changesKey,
  guardAfterSql,
  onlyOneSql,
  outputSql,
  touchedBy,
  verdictSql,
} from '../statement/keyed-statement.js'
import { ruleVerdictSql } from '../statement/rule-sql.js'
import { versionBumpSql } from '../statement/set-sql.js'
import { SlotList, type Slot } from '../statement/statement.js'
import { storedSql } from '../values/sql-form.js'
import { FindCode } from './find-code.js'
import { HOLE, unmarked, withHole } from './mapping-code.js'
import { called, inTemplate, memberName, quoted } from './text.js'

/**
 * The function that changes one record: an UPDATE that finds the row only as it was loaded, and a look at the row where it finds none. Where it
 * is booked the entry needs the row before, so that one statement locks, judges and writes.
 */
export class ChangeCode extends FindCode {
  change(): string {
    const { mapping, type } = this
    const slots = new SlotList()
    const condition = keyConditionSql(mapping.key, 't', slots)
    const guarded = this.isBooked && !this.#isOne ? guardHoldsSql : guardIsSql
    const guardHolds = mapping.guard.by === 'none' ? 'true' : guarded(mapping.guard, 't', slots)
    const texts = this.isBooked
      ? this.#bookedTexts(condition, guardHolds, slots)
      : this.#plainTexts(condition, guardHolds)
    const parts = this.isBooked ? `{ statement, run${this.choosesDigests ? ', touched' : ''} }` : 'text'
    const taken = this.isBooked && this.#isOne ? '' : `  const ${parts} = updateText(set)\n`
    return `${this.#settable(slots)}
${texts}
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
${taken}  const values = [${this.binds(slots.slots, 'key')}, ...set.map((name) => s.writeValue(WRITE[name], changes[name], name))]
${this.isBooked ? this.#bookedWork() : this.#plainWork()}
}
${this.#isOne || !this.isBooked ? this.#written() : ''}${this.isBooked ? this.#judged() : this.#looked()}${this.rules()}`
  }

  /** Whether its key can find one row only: then a booked change is tried without looking at a row that it does not write, as a plain one always is. */
  get #isOne(): boolean {
    return isUnique(this.mapping, this.mapping.key)
  }

  /** What can be set, and how each is written and compared. */
  #settable({ slots }: SlotList): string {
    const { mapping, type, writable, isBooked } = this
    const set = writable.map((property) => {
      const { name, column } = property
      const next = storedSql(HOLE, column.type)
      return `  ${memberName(name)}: {
    column: \`${inTemplate(column.sql)}\`,
    stored: (bind) => \`${withHole(next, '${bind}')}\`,
    differs: (bind) => \`${withHole(valuesDifferSql(pairsOf('t', [property], [next])), '${bind}')}\`,
${isBooked ? `    isUnique: ${changesKey(mapping, [property])},\n` : ''}  },\n`
    })
    const unique = `  /** Whether it is part of a unique index: then PostgreSQL locks the row harder. */
  isUnique: boolean
`
    return `interface Settable {
  column: string
  /** The value that is bound, as it is stored; and whether it is another than the row has. */
  stored: (bind: string) => string
  differs: (bind: string) => string
${isBooked ? unique : ''}}

const SET: Readonly<Record<keyof ${type}Changes, Settable>> = {
${set.join('')}}

/** The parts of a statement that sets these properties. */
function partsOf(set: readonly (keyof ${type}Changes)[]) {
  const parts = set.map((name, at) => ({ ...SET[name], bind: \`$\${at + ${slots.length + 1}}\` }))
  return {
    assignments: parts.map(({ column, stored, bind }) => \`\${column} = \${stored(bind)}\`).join(', '),
    differs: \`(\${parts.map(({ differs, bind }) => differs(bind)).join(' or ')})\`,
${isBooked ? `    lock: parts.some(({ isUnique }) => isUnique) ? 'update' : '${mapping.table.kind === 'view' ? 'update' : 'no key update'}',\n` : ''}  }
}
`
  }

  #plainTexts(condition: string, guardHolds: string): string {
    const { mapping, type } = this
    const { table, properties, rules } = mapping
    const guardAfter = this.guard.column === '' ? '' : `, ${inTemplate(guardAfterSql(mapping, 't'))}`
    const rule =
      rules.length === 0
        ? ''
        : `, ${inTemplate(unmarked(ruleVerdictSql(mapping, ({ column }) => `t.${column.sql}`, new Literals())))}`
    const bump = versionBumpSql(mapping, 't').map((each) => `, ${each}`)
    const asLoaded = guardHolds === 'true' ? '' : ` and ${inTemplate(guardHolds)}`
    return `/** Writes the row where it is still as it was loaded, and would differ. */
const updateText = s.madeOnce((set: readonly (keyof ${type}Changes)[]) => {
  const { assignments, differs } = partsOf(set)
  return \`
update ${inTemplate(table.sql)} as t
set \${assignments}${inTemplate(bump.join(''))}
where ${inTemplate(condition)}${asLoaded} and \${differs}
returning ${inTemplate(outputSql('t', properties))}${guardAfter}${rule}\`
})

/** Locks the row that was not written, and tells why: whether it is as it was loaded, and would differ. */
function currentText(set: readonly (keyof ${type}Changes)[]): string {
  return \`
select ${inTemplate(outputSql('t', properties))}${inTemplate(this.guard.column)}, ${inTemplate(guardHolds)}, \${partsOf(set).differs}
from ${inTemplate(table.sql)} as t
where ${inTemplate(condition)}
for no key update\`
}
`
  }

  #plainWork(): string {
    const { mapping } = this
    const notWritten = quoted(`${mapping.name}: the record was found, and not written.`)
    const alone = `  const alone = await s.askAlone(db, LIMITS, text, values)
  if (alone && alone.length > 0) return written(alone)
  // Where it was not written, a transaction finds out why.
`
    const does = `${this.refusesByItself ? alone : ''}  return s.inTransaction(db, LIMITS, async (client) => {
    const first = await s.ask(client, text, values)
    if (first.length > 0) return written(first)
    const unchanged = judged(await s.ask(client, currentText(set), values), loaded, s.partOf(changes, set))
    if (unchanged) return unchanged
    // It could be written by now, and is locked.
    const second = await s.ask(client, text, values)
    if (second.length === 0) throw new s.RowNotWritten(${notWritten})
    return written(second)
  })`
    if (!mapping.table.rowSecurity) return does
    return `  return ${called(this.orHidden(`async () => {\n${does.replace(/^(?=.)/gm, '  ')}\n  }`))}`
  }

  /** The place behind a record and its guard. */
  get #behind(): number {
    return this.mapping.properties.length + (this.guard.column === '' ? 0 : 1)
  }

  /** What is said of a row that was written. */
  #written(): string {
    const { mapping, type } = this
    const name = quoted(mapping.name)
    const rule = this.assertRule(`row[${this.#behind}]`)
    return `
/** The row as it was written${rule && ', and the first rule that it breaks'}. */
function written(rows: s.Row[]): s.Written<${type}> {
  s.expectCount(${name}, 'one', rows.length, true)
  const [row = []] = rows
${rule && `  ${rule}\n`}  const { record, guard } = loadedFrom(row)
  return { record, guard, matched: 1, changed: 1 }
}
`
  }

  /** What is said of a row that was not written. */
  #looked(): string {
    const { mapping, type } = this
    const [name, behind] = [quoted(mapping.name), this.#behind]
    return `
/** Why a row was not written: null where it is as it was loaded, and differs. */
function judged(rows: s.Row[], loaded: s.Loaded<${type}>, yours: Record<string, unknown>): s.Written<${type}> | null {
  ${this.notOne('loaded.record')}
  const [row = []] = rows
  const current = loadedFrom(row)
  if (row[${behind}] !== 't') throw s.changedSince(${name}, loaded.record, yours, current.record, current.guard)
  return row[${behind + 1}] === 't' ? null : { ...current, matched: 1, changed: 0 }
}
`
  }

  #bookedTexts(condition: string, guardHolds: string, slots: SlotList): string {
    const { mapping, type } = this
    const { table, guard, properties } = mapping
    const extra = extraNames(mapping)
    const written = `done.${extra.written}`
    const rule = unmarked(brokenRuleSql(mapping, written, ({ column }) => `done.${column.sql}`, slots))
    const bump = versionBumpSql(mapping, 'hit').map((each) => `, ${each}`)
    const mayWrite = [`hit.${extra.guard_holds}`, ...onlyOneSql(mapping)].join(' and ')
    const always = touchedBy(mapping, []).map(({ name }) => quoted(name))
    const isAll = always.length === properties.length
    const touched = isAll
      ? `const touched: readonly (keyof ${type})[] = ${this.all}`
      : `const touched = ORDER.filter((name) => ${['(set as readonly string[]).includes(name)', ...always.map((name) => `name === ${name}`)].join(' || ')})`
    const entry = this.entryPart(`set.length + ${slots.slots.length}`, {
      before: 'hit',
      after: 'done',
      touched: 'touched',
      from: 'hit left join done on true',
      where: `${mayWrite} and (not hit.${extra.differs} or ${written})`,
    })
    const one = this.#isOne ? this.#quickText({ condition, guardHolds, slots, touched, bump }) : ''
    return `${isAll ? '' : `const ORDER: readonly (keyof ${type})[] = ${this.all}\n\n`}${one}/** Locks the row, judges what was locked, writes it where it differs, and books what it did: without the entry, and with it. */
const ${this.#isOne ? 'judgedText' : 'updateText'} = s.madeOnce((set: readonly (keyof ${type}Changes)[]) => {
  const { assignments, differs, lock } = partsOf(set)
  ${touched}
  const parts = \`
with hit as (
  select ${inTemplate(properties.map(({ column }) => `t.${column.sql}`).join(', '))},
    ${inTemplate(this.#isOne ? `coalesce(${guardHolds}, false)` : guardHolds)} as ${extra.guard_holds},
    \${differs} as ${extra.differs},
    ${inTemplate(guardValueSql(guard, 't'))} as ${extra.guard}
  from ${inTemplate(table.sql)} as t
  where ${inTemplate(condition)}
  for \${lock}
), done as (
  update ${inTemplate(table.sql)} as t
  set \${assignments}${inTemplate(bump.join(''))}
  from hit
  where ${inTemplate(sameKeySql(mapping.key, 't', 'hit'))} and ${inTemplate(mayWrite)} and hit.${extra.differs}
  returning ${inTemplate(properties.map(({ column }) => `t.${column.sql}`).join(', '))}, ${inTemplate(guardAfterSql(mapping, 't'))} as ${extra.guard}, true as ${extra.written}
)\`
  const told = \`
select ${inTemplate(outputSql('hit', properties))},
  ${inTemplate(verdictSql(`hit.${extra.guard_holds}`, 'true', `hit.${extra.differs}`, written))}, hit.${extra.guard}, done.${extra.guard}, ${inTemplate(rule)},
  ${inTemplate(outputSql('done', properties))}
from hit left join done on true\`
  const entry = ${entry}
  const statement = booked('change', parts + told, [${this.slotCode(slots.slots)}, ...set.map((name) => BOOKED[name])], touched)
  return { statement, run: parts + entry + told${this.choosesDigests ? ', touched' : ''} }
})
`
  }

  /** The statement that writes and books a row which is as it was loaded, and would differ, and finds no other. */
  #quickText({ condition, guardHolds, slots, touched, bump }: QuickParts): string {
    const { mapping, type } = this
    const { table, properties, rules } = mapping
    const columns = properties.map(({ column }) => `t.${column.sql}`).join(', ')
    const own = this.guard.column === '' ? '' : `, ${guardAfterSql(mapping, 't')} as ${extraNames(mapping).guard}`
    const told = this.guard.column === '' ? '' : `, done.${extraNames(mapping).guard}`
    const rule =
      rules.length === 0 ? '' : `, ${unmarked(ruleVerdictSql(mapping, ({ column }) => `done.${column.sql}`, slots))}`
    const entry = this.entryPart(`set.length + ${slots.slots.length}`, {
      before: 'hit',
      after: 'done',
      touched: 'touched',
      from: 'hit cross join done',
      where: 'true',
      isAlwaysWritten: true,
    })
    return `/** Writes the row where it is still as it was loaded, and would differ, and books that: without the entry, and with it. */
const updateText = s.madeOnce((set: readonly (keyof ${type}Changes)[]) => {
  const { assignments, differs, lock } = partsOf(set)
  ${touched}
  const parts = \`
with hit as (
  select ${inTemplate(columns)}
  from ${inTemplate(table.sql)} as t
  where ${inTemplate(condition)}${guardHolds === 'true' ? '' : ` and ${inTemplate(guardHolds)}`} and \${differs}
  for \${lock}
), done as (
  update ${inTemplate(table.sql)} as t
  set \${assignments}${inTemplate(bump.join(''))}
  from hit
  where ${inTemplate(sameKeySql(mapping.key, 't', 'hit'))}
  returning ${inTemplate(columns)}${inTemplate(own)}
)\`
  const told = \`
select ${inTemplate(outputSql('done', properties))}${inTemplate(told)}${inTemplate(rule)}
from done\`
  const entry = ${entry}
  const statement = booked('change', parts + told, [${this.slotCode(slots.slots)}, ...set.map((name) => BOOKED[name])], touched)
  return { statement, run: parts + entry + told${this.choosesDigests ? ', touched' : ''} }
})

`
  }

  #bookedWork(): string {
    if (this.#isOne) return this.#quickWork()
    return this.transaction('change', 'statement', 'run', 'const result = judged(rows, loaded, s.partOf(changes, set))')
  }

  #quickWork(): string {
    const alone = `    const alone = await s.askAlone(db, LIMITS, quick.run, [...values, ...b.entryValues(entry)])
    if (alone && alone.length > 0) return written(alone)
`
    const does = `async () => {
    await b.introduce(db, [entry.statement, judging.statement])
${this.refusesByItself ? alone : ''}    return s.inTransaction(db, LIMITS, async (client) => {
      const first = await s.ask(client, quick.run, [...values, ...b.entryValues(entry)])
      if (first.length > 0) return written(first)
      const rows = await s.ask(client, whole.run, [...values, ...b.entryValues(judging)])
      return judged(rows, loaded, s.partOf(changes, set))
    })
  }`
    return `  const entryOf = ({ statement${this.choosesDigests ? ', touched' : ''} }: ReturnType<typeof judgedText>) => (${this.entry('change', 'statement')})
  const [quick, whole] = [updateText(set), judgedText(set)]
  const [entry, judging] = [entryOf(quick), entryOf(whole)]
  return b.keepingRefusals(db, judging, ${this.orHidden(does)})`
  }

  /** What a booked change's row says. */
  #judged(): string {
    const { mapping, type } = this
    const width = mapping.properties.length
    const [name, letter] = [quoted(mapping.name), quoted(this.letter)]
    return `
/** What became of a change: its row holds the record before, a verdict, both guards, a broken rule, and the record after. */
function judged(rows: s.Row[], loaded: s.Loaded<${type}>, yours: Record<string, unknown>): s.Written<${type}> {
  ${this.notOne('loaded.record')}
  const [row = []] = rows
  const before = recordOf(row)
  const [guardHolds, , differs, written] = row[${width}] ?? ''
  const guard = s.toGuard(row[${width + 1}], ${letter})
  if (guardHolds !== 't') throw s.changedSince(${name}, loaded.record, yours, before, guard)
  if (differs !== 't') return { record: before, guard, matched: 1, changed: 0 }
  if (written !== 't') throw new s.RowNotWritten(${quoted(`${mapping.name}: the record was found, and not written.`)})
  ${this.assertRule(`row[${width + 3}]`)}
  const after = recordOf(row, ${width + 4})
  return { record: after, guard: s.toGuard(row[${width + 2}], ${letter}), matched: 1, changed: 1 }
}
`
  }
}

interface QuickParts {
  condition: string
  guardHolds: string
  slots: SlotList
  /** The code that says which properties are touched. */
  touched: string
  /** What counts the version up. */
  bump: readonly string[]
}

/** Literals of a rule as they stand in a text: the look at a row that was not written has no rules, and so no place for their values. */
class Literals extends SlotList {
  override add({ source }: Slot): string {
    if (source.from !== 'literal') throw new TypeError(`a rule of a mapping has no ${source.from}`)
    return source.text === null ? 'null' : pg.escapeLiteral(source.text)
  }
}
