import type { Mapping, Property } from '../mapping/mapping.js'
import { equalSql } from '../values/operator-sql.js'
import { comparedSql, computedSql, storedSql } from '../values/sql-form.js'
import type { ColumnType } from '../values/column-type.js'
import { freshNames } from './keyed-statement.js'
import { sameKeySql } from './key-sql.js'
import { versionBumpSql } from './set-sql.js'
import type { ShortForm, SlotList } from './statement.js'

/** The parts of a write, over the row under `t`. */
export interface ShortWrite {
  mapping: Mapping
  isRemove: boolean
  set: readonly Property[]
  /** The SQL of each new value, in the order of `set`. */
  news: readonly string[]
  condition: string
  /** To-one links that the values or the condition name, as `Joins` writes them. */
  joins: string
  /** Where given rows stand, such as `pg_temp.given as g`. */
  source?: string
}

/** A change or a removal in its short form: the assignments and the condition, with nothing that locks, judges or books. */
export function shortWriteText({
  mapping,
  isRemove,
  set,
  news,
  condition,
  joins,
  source,
}: ShortWrite): string | undefined {
  const { table, key } = mapping
  const where = condition === 'true' ? '' : `\nwhere ${withoutOuterParens(condition)}`
  if (joins === '') {
    const assignments = set
      .map(({ column }, at) => `${column.sql} = ${assignedSql(news[at] ?? '', column.type)}`)
      .concat(versionBumpSql(mapping, 't'))
    const isAlone = !source && !readsOthers(condition, ...news)
    return simplify(
      isRemove
        ? `delete from ${table.sql} as t${source ? `\nusing ${source}` : ''}${where}`
        : `update ${table.sql} as t\nset ${assignments.join(', ')}${source ? `\nfrom ${source}` : ''}${where}`,
      isAlone,
    )
  }
  // UPDATE and DELETE take no outer join beside the table itself.
  if (key.length === 0 || source) return undefined
  const names = set.map((_, at) => Object.values(freshNames(mapping, [`new_${at + 1}`]))[0] ?? '')
  const columns = [
    ...key.map(({ column }) => `t.${column.sql}`),
    ...(isRemove ? [] : news.map((sql, at) => `${assignedSql(sql, undefined)} as ${names[at]}`)),
  ]
  const found = `(\n  select ${columns.join(', ')}\n  from ${table.sql} as t${joins.replaceAll('\n', '\n  ')}${where.replaceAll('\n', '\n  ')}\n) as hit`
  const same = sameKeySql(key, 't', 'hit')
  if (isRemove) return simplify(`delete from ${table.sql} as t\nusing ${found}\nwhere ${same}`, false)
  const assignments = set
    .map(({ column }, at) => `${column.sql} = hit.${names[at]}`)
    .concat(versionBumpSql(mapping, 't'))
  return simplify(`update ${table.sql} as t\nset ${assignments.join(', ')}\nfrom ${found}\nwhere ${same}`, false)
}

/** The addition of one record in its short form. */
export function shortAddText(
  mapping: Mapping,
  set: readonly Property[],
  news: readonly string[],
  onConflict = '',
): string {
  const { table } = mapping
  if (set.length === 0) return `insert into ${table.sql} default values`
  const values = set.map(({ column }, at) => assignedSql(news[at] ?? '', column.type))
  return simplify(
    `insert into ${table.sql}${onConflict ? ' as t' : ''} (${set.map(({ column }) => column.sql).join(', ')})\nvalues (${values.join(', ')})${onConflict.replace('\n  ', '\n')}`,
    onConflict === '',
  )
}

/** A load in its short form: what it reads, and the lock it takes. */
export function shortLoadText(mapping: Mapping, condition: string, joins: string, end: string): string {
  const columns = mapping.properties.map(({ column }) => `t.${column.sql}`).join(', ')
  const where = condition === 'true' ? '' : `\nwhere ${withoutOuterParens(condition)}`
  return simplify(
    `select ${columns}\nfrom ${mapping.table.sql} as t${joins}${where}${end}`,
    joins === '' && !readsOthers(condition),
  )
}

/** The condition of a key in its short form, values bound as in the whole statement. */
export function shortKeySql(key: readonly Property[], slots: SlotList): string {
  return key
    .map(({ name, column, sensitive }) => {
      const slot = { name, type: column.type.comparable, sensitive, source: { from: 'key' as const, property: name } }
      return equalSql(`t.${column.sql}`, comparedPlainly(slots.add(slot), column.type), column.type)
    })
    .join(' and ')
}

/**
 * Puts a short form together.
 *
 * @returns undefined where it binds what the whole statement does not, and so cannot be shown beside it.
 */
export function toShortForm(
  text: string | undefined,
  slots: SlotList,
  whole: SlotList,
  around: readonly (string | false)[],
): ShortForm | undefined {
  if (text === undefined) return undefined
  const binds = slots.slots.map((slot) => whole.numberOf(slot))
  if (binds.includes(undefined)) return undefined
  return { text, binds: binds as number[], around: around.filter((each): each is string => each !== false) }
}

/** What the whole statement of a write does beside writing, in words. */
export function aroundWrite(
  mapping: Mapping,
  checks: {
    isOne: boolean
    /** Whether the rows are judged in the snapshot that the write sees, instead of being locked. */
    isSnapshot?: boolean
    isGuarded: boolean
    /** Whether the rows have to be as an entry left them. */
    isLeft?: boolean
    expected: readonly Property[]
    differs: boolean
    isRemove: boolean
  },
): (string | false)[] {
  const { guard } = mapping
  const rows = checks.isOne ? 'the row' : 'the rows'
  const by = guard.by === 'version' ? guard.property.column.name : guard.by === 'rowStamp' ? 'xmin' : 'a digest'
  return [
    checks.isSnapshot === true
      ? `Finds ${rows} and judges them first, in the same snapshot.`
      : `Finds and locks ${rows} first.`,
    checks.isGuarded && `Refuses where the guard, ${by}, is not the one given.`,
    checks.isLeft === true && 'Refuses where a row is not as the entry left it.',
    checks.expected.length > 0 &&
      `Refuses where ${checks.expected.map(({ column }) => column.name).join(', ')} ${checks.expected.length === 1 ? 'is' : 'are'} not as expected.`,
    checks.differs && `Writes ${checks.isOne ? 'it' : 'a row'} only where a value differs.`,
    ...(checks.isRemove ? [BOOKED] : aroundAdd(mapping)),
  ]
}

/** What the whole statement of an addition does beside adding, in words. */
export function aroundAdd({ name, rules }: Mapping): (string | false)[] {
  const which = rules.length === 1 ? 'the rule' : `the ${rules.length} rules`
  return [rules.length > 0 && `Checks ${which} of ${name} on what was written.`, BOOKED]
}

const BOOKED = 'On commit, writes the entry in the same transaction.'

/** A new value without the casts that the assignment itself makes. */
function assignedSql(sql: string, type: ColumnType | undefined): string {
  const [before = '', after = ''] = type ? computedSql('\0', type).split('\0') : []
  if (type && sql.startsWith(before) && sql.endsWith(after) && sql.length >= before.length + after.length)
    return plainBind(withoutOuterParens(sql.slice(before.length, sql.length - after.length)), type.comparable)
  return type ? plainBind(sql, type.sql, type) : sql
}

/** A bound value without the cast that its place gives it anyhow. */
export function plainBind(marked: string, cast: string, type?: ColumnType): string {
  const sql = marked.replace(MARKS, '')
  const placeholder = /^\$\d+(?=::)/.exec(sql)?.[0]
  if (placeholder === undefined) return sql
  if (type && storedSql('', type) !== `::${type.sql}`) return sql
  return sql === `${placeholder}::${cast}` ? placeholder : sql
}

function comparedPlainly(placeholder: string, type: ColumnType): string {
  return type.kind === 'money' ? comparedSql(placeholder, type) : placeholder
}

/** `(a and b)` as `a and b`, where the first parenthesis closes at the end. */
function withoutOuterParens(marked: string): string {
  const sql = marked.replace(MARKS, '')
  if (!sql.startsWith('(') || !sql.endsWith(')')) return sql
  let depth = 0
  for (const { 0: token, index } of sql.matchAll(/"(?:[^"]|"")*"|'(?:[^']|'')*'|[()]/g)) {
    if (token === '(') depth++
    else if (token === ')' && --depth === 0) return index === sql.length - 1 ? sql.slice(1, -1) : sql
  }
  return sql
}

/** Strings and quoted names stay as they are; of the rest go the marks, the schema of what is built in, and an alias that nothing is told apart by. */
const TOKENS =
  /"(?:[^"]|"")*"|'(?:[^']|'')*'|operator\(pg_catalog\.([^)\s]+)\)|\bpg_catalog\.|\0[^\0]*\0| (?:as|of) t\b|\bt\./g

function simplify(sql: string, isAlone: boolean): string {
  const text = sql.replace(TOKENS, (token, operator: string | undefined) => {
    if (operator !== undefined) return operator
    if (token === 'pg_catalog.' || token.startsWith('\0')) return ''
    if (token.endsWith(' t') || token === 't.') return isAlone ? '' : token
    return token
  })
  return isAlone ? text.replace(/(?<! ) +(?=\n|$)/gm, '') : text
}

/** Whether other rows are read beside the record's own, so that it has to be said whose a column is. */
function readsOthers(...parts: readonly string[]): boolean {
  return parts.some((part) => /\bselect\b/.test(part.replace(/"(?:[^"]|"")*"/g, '')))
}

/** The marks that expressions put into a text. */
const MARKS = /\0[^\0]*\0/g
