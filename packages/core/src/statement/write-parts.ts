import type { Mapping, Property } from '../mapping/mapping.js'
import { extraNames, foundSql, indented, type FoundSql } from './found-sql.js'
import { sameKeySql } from './key-sql.js'
import { brokenRuleSql, freshNames, guardAfterSql } from './keyed-statement.js'
import { setSql, type SetSql } from './set-sql.js'
import type { SlotList } from './statement.js'

/** What a write is made of, all of it over the row under `t`: how it finds its rows, what it sets, and on which conditions. */
export interface WriteSql extends FoundSql {
  isRemove: boolean
  set: readonly Property[]
  /** The SQL of each new value, in the order of `set`. */
  news: readonly string[]
  touched: readonly Property[]
  /** Conditions; `true` where nothing is to be held. */
  guardHolds: string
  asExpected: string
  /** The rows that are asked with, as an item of `from`, where it looks once for each of them. */
  forEach?: string
}

/** What the key as it was is called in the rows that were written: it may be set. */
export function keyNamesOf(mapping: Mapping): string[] {
  return mapping.key.map((_, at) => freshNames(mapping, [`key_${at + 1}`])[`key_${at + 1}`] ?? '')
}

/**
 * A write in two parts of a statement, whatever finds its rows and whoever asks: `found` locks the rows and judges what was locked, `written` writes
 * from them. With the judgement on the table's own columns a caller who waited for the lock would be judged by the state before the wait.
 * A row whose image would not differ is not written.
 */
export class WriteParts {
  readonly names
  readonly #set: SetSql

  constructor(readonly shape: WriteSql) {
    this.names = extraNames(shape.mapping)
    this.#set = setSql(shape.mapping, shape.set)
  }

  /** The rows, found and judged. New values stand there once: what is computed from them, and compared with them, is computed once. */
  found(): string {
    const { shape, names } = this
    const { news, guardHolds, asExpected, beside = [], forEach } = shape
    const rows = foundSql({
      ...shape,
      beside: [
        ...news.map((sql, at) => `${sql} as ${this.#set.names[at]}`),
        ...(guardHolds === 'true' ? [] : [`${guardHolds} as ${names.guard_holds}`]),
        ...(asExpected === 'true' ? [] : [`${asExpected} as ${names.as_expected}`]),
        ...beside,
      ],
    })
    if (shape.isRemove) return indented(rows, 2)
    const from = forEach === undefined ? '' : `${forEach} cross join lateral `
    return `select hit.*, ${this.#set.differs} as ${names.differs} from ${from}(\n    ${indented(rows, 4)}\n  ) as hit`
  }

  /**
   * The write, from the rows under `hit`.
   *
   * @param hit the part of the statement that found them, as an item of `from`
   * @param conditions under which a row may be written, beside the judgement
   * @param returned what it gives beside the touched values, the guard and that it was written
   */
  written(
    hit: string,
    {
      join = sameKeySql(this.shape.mapping.key, 't', 'hit'),
      conditions = [],
      returned = [],
      isLean = false,
    }: {
      join?: string
      conditions?: readonly string[]
      returned?: readonly string[]
      /** Whether what it returns is enough: neither the touched values, nor the guard of a row that is gone. */
      isLean?: boolean
    } = {},
  ): string {
    const { mapping, isRemove, touched } = this.shape
    const { sql } = mapping.table
    const where = [join, ...this.#judgement('hit'), ...conditions].join(' and ')
    const given = [
      ...(isLean ? [] : touched.map(({ column }) => `t.${column.sql}`)),
      `${isRemove ? 'null::text' : guardAfterSql(mapping, 't')} as ${this.names.guard}`,
      `true as ${this.names.written}`,
      ...returned,
    ]
    const write = isRemove
      ? `delete from ${sql} as t\n  using ${hit}`
      : `update ${sql} as t\n  set ${this.#set.assignments}\n  from ${hit}`
    return `${write}\n  where ${where}\n  returning ${given.join(', ')}`
  }

  /** Whether the guard of the row under an alias holds, whether it is as expected, whether it would differ. */
  flag(name: 'guard_holds' | 'as_expected' | 'differs', alias = 'hit'): string {
    const { guardHolds, asExpected, isRemove } = this.shape
    const isHeld = { guard_holds: guardHolds !== 'true', as_expected: asExpected !== 'true', differs: !isRemove }
    return isHeld[name] ? `${alias}.${this.names[name]}` : 'true'
  }

  /** Whether the row under an alias may be written: its guard holds and it is as expected. */
  may(alias = 'hit'): string {
    return conjunction([this.flag('guard_holds', alias), this.flag('as_expected', alias)])
  }

  /** Whether it may not. */
  refused(alias = 'hit'): string {
    const may = this.may(alias)
    return may === 'true' ? 'false' : `not (${may})`
  }

  /** Whether a row should have been written, and was not: a trigger, or a rule of row security, kept it as it was. */
  unwritten(hit = 'hit', done = 'done'): string {
    return [...this.#judgement(hit), `${done}.${this.names.written} is null`].join(' and ')
  }

  /** Which rule the row as written breaks, counted from 1; null where none. */
  brokenRule(slots: SlotList, hit = 'hit', done = 'done'): string {
    const { mapping, isRemove, touched } = this.shape
    if (isRemove) return 'null::integer'
    const kept = (property: Property) => `${touched.includes(property) ? done : hit}.${property.column.sql}`
    return brokenRuleSql(mapping, `${done}.${this.names.written}`, kept, slots)
  }

  #judgement(alias: string): string[] {
    const flags = (['guard_holds', 'as_expected', 'differs'] as const).map((name) => this.flag(name, alias))
    return flags.filter((flag) => flag !== 'true')
  }
}

/** All of these; `true` where there are none. */
export function conjunction(conditions: readonly string[]): string {
  return conditions.filter((each) => each !== 'true').join(' and ') || 'true'
}
