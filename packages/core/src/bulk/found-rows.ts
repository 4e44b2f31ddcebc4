import type { Mapping, Property } from '../mapping/mapping.js'
import { guardValueSql } from '../statement/guard-sql.js'
import { asComparable } from '../statement/image-sql.js'
import { imageBlockSql, imageTextSql } from '../statement/image-block-sql.js'
import { freshNames } from '../statement/keyed-statement.js'
import { ruleVerdictSql } from '../statement/rule-sql.js'
import { setSql } from '../statement/set-sql.js'
import type { SlotList } from '../statement/statement.js'
import { guardPrefix } from '../mapping/guard-value.js'
import { comparedSql, storedSql } from '../values/sql-form.js'
import { equalSql } from '../values/operator-sql.js'
import {
  GIVEN,
  givenColumn,
  HIT,
  keptProperties,
  type BulkShape,
  type GivenShape,
  type LeftProperty,
} from './bulk-shape.js'

/**
 * The rows that a change of many finds are a part called `hit`: each with its values before, its new ones
 * (`new_1` …), its line in the file. Where what a row will be can be predicted, `hit` is a subquery of the one snapshot that all statements
 * see; elsewhere it is a temporary table of locked rows.
 */
export class FoundRows {
  readonly extra: Record<'no' | 'line' | 'guard_holds' | 'place' | 'part' | 'written', string>

  readonly set: ReturnType<typeof setSql>

  constructor(
    readonly shape: BulkShape,
    /** Whether found rows are locked and kept in a table first. */
    readonly isStaged: boolean,
  ) {
    this.extra = freshNames(shape.mapping, ['no', 'line', 'guard_holds', 'place', 'part', 'written'])
    this.set = setSql(shape.mapping, shape.set)
  }

  /** The columns of the table that found rows are kept in. */
  hitColumns(): string {
    const { mapping, set } = this.shape
    const { no, line, guard_holds, place, part } = this.extra
    const columns = [
      ...mapping.properties.map(({ column }) => `${column.sql} ${column.type.sql}`),
      ...set.map(({ column }, at) => `${this.set.names[at]} ${column.type.sql}`),
      `${no} bigint`,
      `${line} bigint`,
      `${guard_holds} boolean`,
      ...(this.byPlace ? [`${place} tid`, `${part} oid`] : []),
    ]
    return columns.join(', ')
  }

  /** Rows of a table are told apart by where they stand; those of a view or of another server only by their key. */
  get byPlace(): boolean {
    const { kind } = this.shape.mapping.table
    return kind === 'table' || kind === 'partitioned table'
  }

  get isGuarded(): boolean {
    const { given } = this.shape
    return given !== null && (given.hasGuard || given.kept.length > 0 || given.left !== undefined)
  }

  get line(): string {
    return this.shape.given ? `hit.${this.extra.line}` : 'null::bigint'
  }

  get differs(): string {
    return this.shape.kind === 'remove' ? 'true' : this.set.differs
  }

  /** The part that rows are found in. */
  hit(slots: SlotList): string {
    if (!this.isStaged) return `(\n${this.found(slots)}\n) as hit`
    const lines = this.shape.given ? ` where ${this.hitLines(slots)}` : ''
    return lines === '' ? `${HIT} as hit` : `(select * from ${HIT} as hit${lines}) as hit`
  }

  found(slots: SlotList): string {
    const { mapping, given } = this.shape
    const joins = this.shape.newJoins()
    const news = this.shape.news(joins, slots)
    const condition = this.shape.condition(joins, slots)
    const { no, line, guard_holds, place, part } = this.extra
    const columns = [
      ...mapping.properties.map(({ column }) => `t.${column.sql}`),
      ...news.map((sql, at) => `${sql} as ${this.set.names[at]}`),
      `${given ? 'g.no' : 'null::bigint'} as ${no}`,
      `${given ? 'g.line' : 'null::bigint'} as ${line}`,
      `${this.isGuarded ? this.guardHolds(slots) : 'true'} as ${guard_holds}`,
      ...(this.byPlace ? [`t.ctid as ${place}`, `t.tableoid as ${part}`] : []),
    ]
    const lines = given ? ` and ${this.lines(slots)}` : ''
    return `  select ${columns.join(', ')}
  from ${mapping.table.sql} as t${joins.sql}${given ? `, ${GIVEN} as g` : ''}
  where (${condition})${lines}`
  }

  leavesOut(slots: SlotList): string {
    const joins = this.shape.newJoins()
    const condition = this.shape.condition(joins, slots)
    return `exists (select 1 from ${this.shape.mapping.table.sql} as t${joins.sql} where (${condition}) is not true)`
  }

  hitLines(slots: SlotList): string {
    return `hit.${this.extra.no} between ${lineSlot(slots, 'first')} and ${lineSlot(slots, 'last')}`
  }

  lines(slots: SlotList): string {
    return `g.no between ${lineSlot(slots, 'first')} and ${lineSlot(slots, 'last')}`
  }

  sameKey(): string {
    const { mapping, given } = this.shape
    return mapping.key.map((property) => sameGivenSql(property, given)).join(' and ')
  }

  /** Whether the row under `t` has the guard that its line gives, and what the line cannot change; a guard as callers see it says which kind it is. */
  guardHolds(slots: SlotList): string {
    const { mapping, given } = this.shape
    const guard = given?.hasGuard
      ? [`coalesce('${guardPrefix(mapping)}' || ${guardValueSql(mapping.guard, 't')} = g.guard, false)`]
      : []
    if (given?.left) guard.push(asLeftSql(given.left, slots))
    if (given && given.kept.length > 0) guard.push(asGivenSql(given, given.kept, 't'))
    return guard.join(' and ')
  }

  /** Whether the file has values that it cannot change. */
  get hasKept(): boolean {
    return (this.shape.given?.kept.length ?? 0) > 0
  }

  /** Of a found row with its line under `g`: which of them differ, by their places, with commas. */
  get keptDiffers(): string {
    const { given } = this.shape
    if (!given || !this.hasKept) return 'null::text'
    const each = given.kept.map(
      (property, at) => `case when not ${asGivenSql(given, [property], 'hit')} then ${at} end`,
    )
    return `pg_catalog.array_to_string(array[${each.join(', ')}]::pg_catalog.int4[], ',')`
  }

  mayWrite(slots: SlotList): string {
    const broken = this.brokenRule(slots)
    const guard = this.isGuarded ? [`hit.${this.extra.guard_holds}`] : []
    return [...guard, this.differs, ...(broken === null ? [] : [`${broken} is null`])].join(' and ')
  }

  /** Which rule of the mapping a found row would break; null where there is none to break. */
  brokenRule(slots: SlotList): string | null {
    const { mapping, kind } = this.shape
    if (kind === 'remove' || mapping.rules.length === 0) return null
    return `(${ruleVerdictSql(mapping, this.after, slots)})`
  }

  /** A property of a found row as it will be. */
  readonly after = (property: Property): string =>
    this.valueAfter(
      property,
      'hit',
      this.set.names.map((name) => `hit.${name}`),
    )

  valueAfter(property: Property, alias: string, news: readonly string[]): string {
    const { mapping, set } = this.shape
    const at = set.indexOf(property)
    const { guard } = mapping
    if (at >= 0) return news[at] ?? 'null'
    const own = `${alias}.${property.column.sql}`
    return guard.by === 'version' && guard.property === property && guard.bumpedBy === 'ledgerman'
      ? `(${own} + 1)`
      : own
  }

  shownSql(before: (property: Property) => string, after: (property: Property) => string): string {
    const { mapping, kind, touched } = this.shape
    return [
      this.line,
      ...mapping.key.map((property) => this.read(before(property), property)),
      ...touched.map((property) => this.read(before(property), property)),
      ...touched.map((property) => (kind === 'remove' ? 'null::text' : this.read(after(property), property))),
    ].join(', ')
  }

  read(sql: string, { column }: Property): string {
    return column.type.kind === 'money'
      ? `${sql}::numeric`
      : column.type.element?.kind === 'money'
        ? `${sql}::numeric[]`
        : sql
  }

  block(
    slots: SlotList,
    parts: Pick<Parameters<typeof imageBlockSql>[0], 'before' | 'after' | 'keyOf' | 'from' | 'place'>,
  ): string {
    return imageBlockSql({ mapping: this.shape.mapping, slots, step: this.shape.step ?? 1, kept: this.kept, ...parts })
  }

  /** The images of the rows under `hit`, where what they will be is known before. */
  blockOfFound(slots: SlotList, from: string): string {
    return this.block(slots, {
      before: (property) => `hit.${property.column.sql}`,
      after: this.shape.kind === 'remove' ? null : this.after,
      keyOf: (property) => `hit.${property.column.sql}`,
      from,
      place: `hit.${this.extra.place}::text`,
    })
  }

  get kept(): readonly Property[] {
    return keptProperties(this.shape)
  }
}

/** The condition that a row has the values of the line under `g`, letter by letter. */
function asGivenSql(given: GivenShape, properties: readonly Property[], alias: string): string {
  const row = (sqlOf: (property: Property) => string) =>
    `row(${properties.map((property) => asComparable(sqlOf(property), property.column.type.kind)).join(', ')})`
  const wanted = row((property) => storedSql(`g.${givenColumn(given, property)}`, property.column.type))
  return `pg_catalog.record_image_eq(${row(({ column }) => `${alias}.${column.sql}`)}, ${wanted})`
}

/** The condition that the row under `t` has what the entry left it with, in all that the entry changed. */
export function asLeftSql(left: readonly LeftProperty[], slots: SlotList): string {
  const same = left.map(({ property, text, isChanged }) => {
    const holds = `${imageTextSql(`t.${property.column.sql}`, property, slots)} is not distinct from g.${text}`
    return isChanged === null ? holds : `(not g.${isChanged} or ${holds})`
  })
  return same.join(' and ') || 'true'
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

export function orderSql({ key }: Mapping, alias: string): string {
  return key.length === 0 ? '1' : key.map(({ column }) => `${alias}.${column.sql}`).join(', ')
}
