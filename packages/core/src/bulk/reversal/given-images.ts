import {
  GIVEN,
  givenColumn,
  restoredColumn,
  type BulkShape,
  type GivenShape,
  type LeftProperty,
} from '../bulk-shape.js'
import { givenType } from '../file-job.js'
import { asLeftSql, sameGivenSql } from '../found-rows.js'
import { SHOWN_ROWS } from '../find-statements.js'
import { ToldRows } from '../told-rows.js'
import type { WorkTables } from '../work-tables.js'
import type { Property } from '../../mapping/mapping.js'
import type { OwnSession } from '../../sessions/own-session.js'
import { digestBySql } from '../../statement/book-sql.js'
import { imageTextSql } from '../../statement/image-block-sql.js'
import { bindValues, SlotList, type Statement } from '../../statement/statement.js'
import type { Target } from '../../target/target.js'
import { digestKeyPads } from '../../statement/digest-key.js'
import { ImageLines } from './image-lines.js'
import type { ChangedIn } from './undo-shape.js'
import { hiddenIn, type UndoStep } from './undo-steps.js'
import { type ChangedRow } from './reversal-problems.js'

/** What the temporary table was filled with. */
export interface FilledImages {
  /** How many rows there are. */
  count: number
  /** Which properties the entry changed in all of them, and which in none. */
  seen: ChangedIn
  /** Properties that cannot be put back, since the book has only digests of what they were. */
  lost: Property[]
  /** Properties of which a column would not keep every digit that the book has: it was made shorter since. */
  shortened: Property[]
}

/** Kinds of which a column that keeps fewer digits than its type can have rounds what it is given; others refuse it. */
const ROUNDED = new Set(['numeric', 'timestamp', 'timestamptz', 'time', 'interval'])

function mayRound({ sensitive, column: { type } }: Property): boolean {
  return !sensitive && (type.kind === 'float' || (ROUNDED.has(type.kind) && type.sql !== type.comparable))
}

/** Puts the images of a step into the temporary table, each part as its column's type. */
export async function fillGiven(
  tables: WorkTables,
  step: UndoStep,
  shape: BulkShape,
  digestKey: Buffer,
): Promise<FilledImages> {
  const { key } = shape.mapping
  const hidden = step.kind === 'add' ? [] : hiddenIn(step)
  const given = shape.given as GivenShape
  const left = given.left ?? []
  const lines = new ImageLines(step)
  const rounded = step.kind === 'add' ? [] : shape.set.filter(mayRound)
  const hiddenKeys = step.kind === 'remove' ? [] : key.filter(({ sensitive }) => sensitive)
  const columns = [
    ...given.properties.map((property) => ({
      name: givenColumn(given, property),
      type: givenType(property),
      sql: hiddenKeys.includes(property) ? `k${hiddenKeys.indexOf(property) + 1}.value` : lines.given(property),
    })),
    ...(given.moved ?? []).map((property) => ({
      name: restoredColumn(given, property),
      type: givenType(property),
      sql: lines.value(property),
    })),
    ...left.map(({ property, text }) => ({
      name: text,
      type: 'text',
      sql: `case when ${lines.isChanged(property)} then ${lines.text('after', property)} end`,
    })),
    ...left.flatMap(({ property, isChanged: flag }) =>
      flag === null ? [] : [{ name: flag, type: 'boolean', sql: lines.isChanged(property) }],
    ),
    ...hidden.map((property, at) => ({ name: `h${at + 1}`, type: 'boolean', sql: lines.isChanged(property) })),
    ...rounded.map((property, at) => ({
      name: `r${at + 1}`,
      type: 'boolean',
      sql: `not ${lines.isExact(property)}`,
    })),
  ]
  await tables.empty(GIVEN, `no bigint, line bigint, ${columns.map(({ name, type }) => `${name} ${type}`).join(', ')}`)
  // In the order of the key, which is near to that of the table: rows that stand together are written one after the other.
  const order = key.map((property) => lines.key(property)).join(', ')
  // Of a sensitive key the images have digests: which values of the table have them is found out by reading it through.
  const named = hiddenKeys.map((property, at) => {
    const value = `t.${property.column.sql}`
    const all = `select distinct ${value} as value, ${digestBySql(value, '$3')} as digest from ${step.mapping.table.sql} as t`
    return `\n  left join (${all}) as k${at + 1} on k${at + 1}.digest = ${lines.key(property)}`
  })
  await tables.session.query(
    `insert into ${GIVEN} select i.number, i.number, ${columns.map(({ sql }) => sql).join(', ')}
from (select pg_catalog.row_number() over (order by ${order}) as number, i.* from (${lines.allSql('$1', '$2')}) as i) as i${named.join('')}`,
    [step.entry, String(step.no), ...(named.length > 0 ? [digestKeyPads(digestKey)] : [])],
  )
  return readFilled(tables, left, hidden, rounded)
}

async function readFilled(
  tables: WorkTables,
  left: readonly LeftProperty[],
  hidden: readonly Property[],
  rounded: readonly Property[],
): Promise<FilledImages> {
  const flagged = left.filter(({ isChanged }) => isChanged !== null)
  const all = flagged.map(({ isChanged }) => `pg_catalog.bool_and(${isChanged})`)
  const some = flagged.map(({ isChanged }) => `pg_catalog.bool_or(${isChanged})`)
  const digests = hidden.map((_, at) => `pg_catalog.bool_or(h${at + 1})`)
  const losses = rounded.map((_, at) => `pg_catalog.bool_or(r${at + 1})`)
  const { rows } = await tables.session.query(
    `select ${['pg_catalog.count(*)', ...all, ...some, ...digests, ...losses].join(', ')} from ${GIVEN}`,
  )
  const [count, ...flags] = rows[0] ?? []
  await tables.filled(GIVEN, Number(count ?? 0))
  const own = flagged.map(({ property }) => property)
  return {
    count: Number(count ?? 0),
    seen: {
      everywhere: new Set(own.filter((_, at) => flags[at] === 't')),
      nowhere: new Set(own.filter((_, at) => flags[own.length + at] === 'f')),
    },
    lost: hidden.filter((_, at) => flags[2 * own.length + at] === 't'),
    shortened: rounded.filter((_, at) => flags[2 * own.length + hidden.length + at] === 't'),
  }
}

/** Rows that are not as the entry left them, with both values. */
export async function changedRows(target: Target, session: OwnSession, shape: BulkShape): Promise<ChangedRow[]> {
  const { mapping, given } = shape
  const left = given?.left ?? []
  const slots = new SlotList()
  const now = left.map(({ property, isChanged }) => {
    const text = imageTextSql(`t.${property.column.sql}`, property, slots)
    return isChanged === null ? text : `case when g.${isChanged} then ${text} end`
  })
  const keys = mapping.key.map((property) => `g.${givenColumn(given as GivenShape, property)}`)
  const [first] = mapping.key
  const array = (texts: readonly string[]) => `pg_catalog.to_json(array[${texts.join(', ')}]::text[])::text`
  const { rows } = await session.query(
    `select ${array(left.map(({ text }) => `g.${text}`))}, case when t.${first?.column.sql} is not null then ${array(now)} end, ${keys.join(', ')}
from ${GIVEN} as g left join ${mapping.table.sql} as t on ${mapping.key.map((property) => sameGivenSql(property, given)).join(' and ')}
where t.${first?.column.sql} is null or not (${asLeftSql(left, slots)}) order by g.no limit ${SHOWN_ROWS}`,
    bindValues({ slots: slots.slots } as Statement, () => digestKeyPads(target.digestKey)),
  )
  const told = new ToldRows(target, shape)
  return rows.map(([texts, live, ...key]) => ({
    key: told.key(key),
    ...told.sides(
      left.map(({ property }) => property),
      JSON.parse(texts ?? '[]') as string[],
      live === null || live === undefined ? null : (JSON.parse(live) as string[]),
    ),
  }))
}
