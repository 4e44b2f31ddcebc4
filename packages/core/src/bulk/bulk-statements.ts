import type { Mapping, Property } from '../mapping/mapping.js'
import { guardValueSql } from '../statement/guard-sql.js'
import { asComparable } from '../statement/image-sql.js'
import { imageBlockSql } from '../statement/image-block-sql.js'
import { sameKeySql } from '../statement/key-sql.js'
import { changesKey, freshNames, guardAfterSql, outputSql } from '../statement/keyed-statement.js'
import { ruleVerdictSql } from '../statement/rule-sql.js'
import { setSql, versionBumpSql } from '../statement/set-sql.js'
import { SlotList, toStatement, type Statement } from '../statement/statement.js'
import { guardPrefix } from '../mapping/guard-value.js'
import { comparedSql, storedSql } from '../values/sql-form.js'
import { equalSql } from '../values/operator-sql.js'
import { GIVEN, givenColumn, HIT, keptProperties, type BulkShape, type GivenShape } from './bulk-shape.js'

/** How many rows are shown of a change of many. */
export const SHOWN_ROWS = 100

/** The columns that the survey gives, in order. */
export const SURVEY = ['matched', 'changed', 'guardBroken', 'ruleBroken', 'leavesOut', 'bytes', 'digest'] as const

/**
 * The statements of a change of many rows. Rows that were found are a part called `hit`: each with its values before, its new ones
 * (`new_1` …), its line in the file. Where what a row will be can be predicted, `hit` is a subquery of the one snapshot that all statements
 * see; elsewhere it is a temporary table of locked rows.
 */
export class BulkStatements {
  readonly #extra: Record<'no' | 'line' | 'guard_holds' | 'place' | 'part' | 'written', string>
  readonly #set: ReturnType<typeof setSql>

  constructor(
    readonly shape: BulkShape,
    /** Whether found rows are locked and kept in a table first. */
    readonly isStaged: boolean,
  ) {
    this.#extra = freshNames(shape.mapping, ['no', 'line', 'guard_holds', 'place', 'part', 'written'])
    this.#set = setSql(shape.mapping, shape.set)
  }

  /** The table that found rows are kept in. */
  hitTable(): string {
    const { mapping, set } = this.shape
    const { no, line, guard_holds, place, part } = this.#extra
    const columns = [
      ...mapping.properties.map(({ column }) => `${column.sql} ${column.type.sql}`),
      ...set.map(({ column }, at) => `${this.#set.names[at]} ${column.type.sql}`),
      `${no} bigint`,
      `${line} bigint`,
      `${guard_holds} boolean`,
      ...(this.#byPlace ? [`${place} tid`, `${part} oid`] : []),
    ]
    return `create temporary table ${HIT.slice('pg_temp.'.length)} (${columns.join(', ')})`
  }

  /** Finds the rows, locks them in key order, and keeps them with what they will be. */
  fillHit(): Statement {
    const slots = new SlotList()
    const { mapping, set } = this.shape
    const lock =
      this.shape.kind === 'remove' || changesKey(mapping, [...set]) ? 'for update of t' : 'for no key update of t'
    const order =
      mapping.key.length === 0 ? '' : `\n  order by ${mapping.key.map(({ column }) => `t.${column.sql}`).join(', ')}`
    return toStatement(`insert into ${HIT}\n${this.#found(slots)}${order}\n  ${lock}`, slots)
  }

  /** What was found and what would become of it, counted. */
  survey(withDigest: boolean): Statement {
    const slots = new SlotList()
    const { mapping, set, touched, checksLeftOut } = this.shape
    const kept = this.#kept
    const holds = `hit.${this.#extra.guard_holds}`
    const broken = this.#brokenRule(slots)
    const digested = [...mapping.key, ...touched].map(({ column }) => `hit.${column.sql}`)
    const news = set.map((_, at) => `hit.${this.#set.names[at]}`)
    const digest = withDigest
      ? `pg_catalog.bit_xor(pg_catalog.hashtextextended(row(${[...digested, ...news].join(', ')})::text, 0))`
      : 'null::bigint'
    // Numbers and dates are short: only what can be long is measured.
    const long = kept.filter(({ column: { type } }) => ['text', 'json', 'jsonb', 'bytea', 'array'].includes(type.kind))
    const bytes =
      long.length === 0
        ? '0'
        : `coalesce(pg_catalog.avg(${long.map(({ column }) => `coalesce(pg_catalog.pg_column_size(hit.${column.sql}), 0)`).join(' + ')}), 0)::bigint`
    return toStatement(
      `select pg_catalog.count(*), pg_catalog.count(*) filter (where ${holds} and ${this.#differs}${broken === null ? '' : ` and ${broken} is null`}),
  pg_catalog.count(*) filter (where not ${holds}), ${broken === null ? '0' : `pg_catalog.count(*) filter (where ${holds} and ${this.#differs} and ${broken} is not null)`},
  ${checksLeftOut ? this.#leavesOut(slots) : 'true'}, ${bytes}, ${digest}
from ${this.#hit(slots)}`,
      slots,
    )
  }

  /** The first rows that would be written, in key order: line, key, then touched columns before and after. */
  sample(): Statement {
    const slots = new SlotList()
    const { mapping } = this.shape
    return toStatement(
      `select ${this.#shownSql((property) => `hit.${property.column.sql}`, this.#after)}
from ${this.#hit(slots)}
where ${this.#mayWrite(slots)}
order by ${orderSql(mapping, 'hit')}
limit ${SHOWN_ROWS}`,
      slots,
    )
  }

  /** Rows that their guard or a rule refuses: line, code, the rule's number, key. */
  refused(limit: number): Statement {
    const slots = new SlotList()
    const { mapping } = this.shape
    const holds = `hit.${this.#extra.guard_holds}`
    const broken = this.#brokenRule(slots) ?? 'null::integer'
    return toStatement(
      `select ${this.#line}, case when ${holds} then 'rule-broken' else 'record-changed' end, ${broken}, ${outputSql('hit', mapping.key) || 'null'}
from ${this.#hit(slots)}
where not ${holds} or (${this.#differs} and ${broken} is not null)
order by ${this.shape.given ? this.#line : orderSql(mapping, 'hit')}
limit ${limit}`,
      slots,
    )
  }

  /** The images of the rows that will be written, where what they will be is known before. */
  images(): Statement {
    const slots = new SlotList()
    const { kind } = this.shape
    return toStatement(
      this.#block(slots, {
        before: (property) => `hit.${property.column.sql}`,
        after: kind === 'remove' ? null : this.#after,
        keyOf: (property) => `hit.${property.column.sql}`,
        from: `from ${this.#hit(slots)}\n    where ${this.#mayWrite(slots)}`,
        place: `hit.${this.#extra.place}::text`,
      }),
      slots,
    )
  }

  /** Writes the rows; its command tag says how many. What it writes was computed in the same snapshot as everything before. */
  write(): Statement {
    const slots = new SlotList()
    const { mapping, kind, set, given } = this.shape
    const joins = this.shape.newJoins()
    const news = this.shape.news(joins, slots)
    const condition = this.shape.condition(joins, slots)
    const rowOf = (all: readonly string[]) =>
      `row(${all.map((sql, at) => asComparable(sql, set[at]?.column.type.kind ?? '')).join(', ')})`
    const differs = `pg_catalog.record_image_ne(${rowOf(set.map(({ column }) => `t.${column.sql}`))}, ${rowOf(news)})`
    const rule =
      kind === 'remove' || mapping.rules.length === 0
        ? ''
        : ` and (${ruleVerdictSql(mapping, (property) => this.#valueAfter(property, 't', news), slots)}) is null`
    const guard = this.#isGuarded ? ` and ${this.#guardHolds()}` : ''
    const lines = given ? ` and ${this.#lines(slots)}` : ''
    const where = `(${condition})${lines}${guard}${kind === 'remove' ? '' : ` and ${differs}`}${rule}`
    const assignments = [...set.map(({ column }, at) => `${column.sql} = ${news[at]}`), ...versionBumpSql(mapping, 't')]
    const source = given ? `${GIVEN} as g` : ''
    return toStatement(
      kind === 'remove'
        ? `delete from ${mapping.table.sql} as t${source ? `\nusing ${source}` : ''}\nwhere ${where}`
        : `update ${mapping.table.sql} as t\nset ${assignments.join(', ')}${source ? `\nfrom ${source}` : ''}\nwhere ${where}`,
      slots,
    )
  }

  /**
   * Writes the rows that were locked and kept, with their images: what they are afterwards only the database knows. Row shape: how many
   * were written, how many of them break a rule; then as `sample`.
   */
  writeStaged(isBooked: boolean): Statement {
    const slots = new SlotList()
    const { mapping, kind, touched } = this.shape
    const isRemove = kind === 'remove'
    const { line, place, part } = this.#extra
    const join = this.#byPlace
      ? `t.ctid = hit.${place} and t.tableoid = hit.${part}`
      : sameKeySql(mapping.key, 't', 'hit')
    const lines = this.shape.given ? ` and ${this.#hitLines(slots)}` : ''
    const where = `${join}${lines} and ${this.#mayWrite(slots)}`
    // Both sides come out of RETURNING: the row as it was found stands in `hit`.
    const oldName = (property: Property) => `o${mapping.properties.indexOf(property) + 1}`
    const newName = (property: Property) => `n${mapping.properties.indexOf(property) + 1}`
    const returned = [
      `${this.shape.given ? `hit.${line}` : 'null::bigint'} as l`,
      ...mapping.properties.map((property) => `hit.${property.column.sql} as ${oldName(property)}`),
      ...(isRemove ? [] : mapping.properties.map((property) => `t.${property.column.sql} as ${newName(property)}`)),
      ...(isRemove ? [] : [`${guardAfterSql(mapping, 't')} as gd`]),
      `${this.#byPlace ? `hit.${place}::text` : 'null::text'} as p`,
    ].join(', ')
    const write = isRemove
      ? `delete from ${mapping.table.sql} as t\n  using ${HIT} as hit\n  where ${where}\n  returning ${returned}`
      : `update ${mapping.table.sql} as t\n  set ${this.#set.assignments}\n  from ${HIT} as hit\n  where ${where}\n  returning ${returned}`
    const before = (property: Property) => `done.${oldName(property)}`
    const after = isRemove ? null : (property: Property) => `done.${newName(property)}`
    const rule =
      isRemove || mapping.rules.length === 0
        ? '0'
        : `pg_catalog.count(${ruleVerdictSql(mapping, (property) => `done.${newName(property)}`, slots)}) over ()`
    const booked =
      !isBooked || this.shape.images === 'none'
        ? ''
        : `, booked as (\n  ${this.#block(slots, { before, after, keyOf: before, from: 'from done', place: 'done.p' })}\n)`
    const shown = [
      'done.l',
      ...mapping.key.map((property) => this.#read(before(property), property)),
      ...touched.map((property) => this.#read(before(property), property)),
      ...touched.map((property) => (after ? this.#read(after(property), property) : 'null::text')),
    ].join(', ')
    const order = mapping.key.length === 0 ? '1' : mapping.key.map((property) => before(property)).join(', ')
    return toStatement(
      `with done as (\n  ${write}\n)${booked}
select pg_catalog.count(*) over (), ${rule}, ${shown}
from done
order by ${order}
limit ${SHOWN_ROWS}`,
      slots,
    )
  }

  /** Adds the records of the file that are not there. Row shape as `writeStaged`, with nothing before. */
  add(isBooked: boolean): Statement {
    const slots = new SlotList()
    const { mapping, given } = this.shape
    if (!given) throw new TypeError('only a file adds records')
    const { properties } = given
    const columns = properties.map(({ column }) => column.sql).join(', ')
    const values = properties.map((property) => storedSql(`g.${givenColumn(given, property)}`, property.column.type))
    const rule =
      mapping.rules.length === 0
        ? '0'
        : `pg_catalog.count(${ruleVerdictSql(mapping, ({ column }) => `done.${column.sql}`, slots)}) over ()`
    const value = ({ column }: Property) => `done.${column.sql}`
    const booked =
      isBooked && this.shape.images !== 'none'
        ? `, booked as (\n  ${imageBlockSql({ mapping, slots, step: 2, kept: mapping.properties, before: null, after: value, keyOf: value, from: 'from done', place: `''` })}\n)`
        : ''
    return toStatement(
      `with done as (
  insert into ${mapping.table.sql} (${columns})
  select ${values.join(', ')} from ${GIVEN} as g
  where ${this.#lines(slots)} and not exists (select 1 from ${mapping.table.sql} as t where ${this.#sameKey()})
  order by g.no
  returning ${mapping.properties.map(({ column }) => column.sql).join(', ')}
)${booked}
select pg_catalog.count(*) over (), ${rule}, null::bigint, ${outputSql('done', mapping.key)}, ${mapping.properties.map(() => 'null::text').join(', ')}, ${outputSql('done', mapping.properties)}
from done
order by ${orderSql(mapping, 'done')}
limit ${SHOWN_ROWS}`,
      slots,
    )
  }

  /** How many rows of the file have no record, and how many more than one. */
  unfound(): Statement {
    const slots = new SlotList()
    const { mapping } = this.shape
    const count = `(select pg_catalog.count(*) from ${mapping.table.sql} as t where ${this.#sameKey()})`
    const isUnique = mapping.table.kind !== 'view' && !mapping.table.hasHeirs
    return toStatement(
      isUnique
        ? `select pg_catalog.count(*), 0 from ${GIVEN} as g where ${this.#lines(slots)} and not exists (select 1 from ${mapping.table.sql} as t where ${this.#sameKey()})`
        : `select pg_catalog.count(*) filter (where c = 0), pg_catalog.count(*) filter (where c > 1) from (select ${count} as c from ${GIVEN} as g where ${this.#lines(slots)}) as counted`,
      slots,
    )
  }

  /** Those rows: line, how many records there are, key. */
  unfoundRows(limit: number): Statement {
    const slots = new SlotList()
    const { mapping, given } = this.shape
    const keys = given ? mapping.key.map((property) => `g.${givenColumn(given, property)}`) : []
    return toStatement(
      `select line, c, ${keys.map((_, at) => `k${at + 1}`).join(', ')} from (
  select g.line, (select pg_catalog.count(*) from ${mapping.table.sql} as t where ${this.#sameKey()}) as c, ${keys.map((sql, at) => `${sql} as k${at + 1}`).join(', ')}
  from ${GIVEN} as g where ${this.#lines(slots)}
) as counted where c <> 1 order by line limit ${limit}`,
      slots,
    )
  }

  /** Rows of a table are told apart by where they stand; those of a view or of another server only by their key. */
  get #byPlace(): boolean {
    const { kind } = this.shape.mapping.table
    return kind === 'table' || kind === 'partitioned table'
  }

  get #isGuarded(): boolean {
    const { given } = this.shape
    return given !== null && (given.hasGuard || given.kept.length > 0)
  }

  get #line(): string {
    return this.shape.given ? `hit.${this.#extra.line}` : 'null::bigint'
  }

  get #differs(): string {
    return this.shape.kind === 'remove' ? 'true' : this.#set.differs
  }

  /** The part that rows are found in. */
  #hit(slots: SlotList): string {
    if (!this.isStaged) return `(\n${this.#found(slots)}\n) as hit`
    const lines = this.shape.given ? ` where ${this.#hitLines(slots)}` : ''
    return lines === '' ? `${HIT} as hit` : `(select * from ${HIT} as hit${lines}) as hit`
  }

  #found(slots: SlotList): string {
    const { mapping, given } = this.shape
    const joins = this.shape.newJoins()
    const news = this.shape.news(joins, slots)
    const condition = this.shape.condition(joins, slots)
    const { no, line, guard_holds, place, part } = this.#extra
    const columns = [
      ...mapping.properties.map(({ column }) => `t.${column.sql}`),
      ...news.map((sql, at) => `${sql} as ${this.#set.names[at]}`),
      `${given ? 'g.no' : 'null::bigint'} as ${no}`,
      `${given ? 'g.line' : 'null::bigint'} as ${line}`,
      `${this.#isGuarded ? this.#guardHolds() : 'true'} as ${guard_holds}`,
      ...(this.#byPlace ? [`t.ctid as ${place}`, `t.tableoid as ${part}`] : []),
    ]
    const lines = given ? ` and ${this.#lines(slots)}` : ''
    return `  select ${columns.join(', ')}
  from ${mapping.table.sql} as t${joins.sql}${given ? `, ${GIVEN} as g` : ''}
  where (${condition})${lines}`
  }

  #leavesOut(slots: SlotList): string {
    const joins = this.shape.newJoins()
    const condition = this.shape.condition(joins, slots)
    return `exists (select 1 from ${this.shape.mapping.table.sql} as t${joins.sql} where (${condition}) is not true)`
  }

  #hitLines(slots: SlotList): string {
    return `hit.${this.#extra.no} between ${lineSlot(slots, 'first')} and ${lineSlot(slots, 'last')}`
  }

  #lines(slots: SlotList): string {
    return `g.no between ${lineSlot(slots, 'first')} and ${lineSlot(slots, 'last')}`
  }

  #sameKey(): string {
    const { mapping, given } = this.shape
    return mapping.key.map((property) => sameGivenSql(property, given)).join(' and ')
  }

  /** Whether the row under `t` has the guard that its line gives, and what the line cannot change; a guard as callers see it says which kind it is. */
  #guardHolds(): string {
    const { mapping, given } = this.shape
    const guard = given?.hasGuard
      ? [`coalesce('${guardPrefix(mapping)}' || ${guardValueSql(mapping.guard, 't')} = g.guard, false)`]
      : []
    const kept = given?.kept ?? []
    if (kept.length === 0) return guard.join('')
    const row = (sqlOf: (property: Property) => string) =>
      `row(${kept.map((property) => asComparable(sqlOf(property), property.column.type.kind)).join(', ')})`
    const wanted = row((property) => storedSql(`g.${givenColumn(given as GivenShape, property)}`, property.column.type))
    return [...guard, `pg_catalog.record_image_eq(${row(({ column }) => `t.${column.sql}`)}, ${wanted})`].join(' and ')
  }

  #mayWrite(slots: SlotList): string {
    const broken = this.#brokenRule(slots)
    const guard = this.#isGuarded ? [`hit.${this.#extra.guard_holds}`] : []
    return [...guard, this.#differs, ...(broken === null ? [] : [`${broken} is null`])].join(' and ')
  }

  /** Which rule of the mapping a found row would break; null where there is none to break. */
  #brokenRule(slots: SlotList): string | null {
    const { mapping, kind } = this.shape
    if (kind === 'remove' || mapping.rules.length === 0) return null
    return `(${ruleVerdictSql(mapping, this.#after, slots)})`
  }

  /** A property of a found row as it will be. */
  readonly #after = (property: Property): string =>
    this.#valueAfter(
      property,
      'hit',
      this.#set.names.map((name) => `hit.${name}`),
    )

  #valueAfter(property: Property, alias: string, news: readonly string[]): string {
    const { mapping, set } = this.shape
    const at = set.indexOf(property)
    const { guard } = mapping
    if (at >= 0) return news[at] ?? 'null'
    const own = `${alias}.${property.column.sql}`
    return guard.by === 'version' && guard.property === property && guard.bumpedBy === 'ledgerman'
      ? `(${own} + 1)`
      : own
  }

  #shownSql(before: (property: Property) => string, after: (property: Property) => string): string {
    const { mapping, kind, touched } = this.shape
    return [
      this.#line,
      ...mapping.key.map((property) => this.#read(before(property), property)),
      ...touched.map((property) => this.#read(before(property), property)),
      ...touched.map((property) => (kind === 'remove' ? 'null::text' : this.#read(after(property), property))),
    ].join(', ')
  }

  #read(sql: string, { column }: Property): string {
    return column.type.kind === 'money'
      ? `${sql}::numeric`
      : column.type.element?.kind === 'money'
        ? `${sql}::numeric[]`
        : sql
  }

  #block(
    slots: SlotList,
    parts: Pick<Parameters<typeof imageBlockSql>[0], 'before' | 'after' | 'keyOf' | 'from' | 'place'>,
  ): string {
    return imageBlockSql({ mapping: this.shape.mapping, slots, step: 1, kept: this.#kept, ...parts })
  }

  get #kept(): readonly Property[] {
    return keptProperties(this.shape)
  }
}

/** The condition that the row under `t` has the key of the given one under `g`. */
export function sameGivenSql(property: Property, given: BulkShape['given']): string {
  const { column } = property
  const value = given ? `g.${givenColumn(given, property)}` : 'null'
  return equalSql(`t.${column.sql}`, comparedSql(value, column.type), column.type)
}

function lineSlot(slots: SlotList, of: 'first' | 'last'): string {
  return `${slots.add({ name: `:${of}Line`, type: 'bigint', sensitive: false, source: { from: 'line', of } })}::bigint`
}

function orderSql({ key }: Mapping, alias: string): string {
  return key.length === 0 ? '1' : key.map(({ column }) => `${alias}.${column.sql}`).join(', ')
}
