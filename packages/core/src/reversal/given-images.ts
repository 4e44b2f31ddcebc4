import { GIVEN, givenColumn, type BulkShape, type GivenShape } from '../bulk/bulk-shape.js'
import { givenType } from '../bulk/file-job.js'
import { asLeftSql, sameGivenSql } from '../bulk/found-rows.js'
import { SHOWN_ROWS } from '../bulk/find-statements.js'
import { ToldRows } from '../bulk/told-rows.js'
import type { WorkTables } from '../bulk/work-tables.js'
import type { Property } from '../mapping/mapping.js'
import type { OwnSession } from '../sessions/own-session.js'
import { imageTextSql } from '../statement/image-block-sql.js'
import { bindValues, SlotList, type Statement } from '../statement/statement.js'
import type { Target } from '../target/target.js'
import { digestKeyPads } from '../values/digest.js'
import type { ChangedIn } from './undo-shape.js'
import { hiddenIn, type UndoStep } from './undo-steps.js'
import { type ChangedRow } from './reversal-problems.js'

/**
 * A step's images, wherever the book keeps them: a column for each part, `k1 …` of the key, `b1 …` before and `a1 …` after. Of a block the
 * lines are unnested side by side in the select list, which keeps no copy of them: to look a place up in an array of texts takes as long as
 * the place is far in it.
 */
function imagesSql({ mapping, touched }: UndoStep): string {
  const parts = [
    ...mapping.key.map((_, at) => ({ name: `k${at + 1}`, side: 'key', line: at + 1 })),
    ...touched.map((_, at) => ({ name: `b${at + 1}`, side: 'before', line: at + 1 })),
    ...touched.map((_, at) => ({ name: `a${at + 1}`, side: 'after', line: at + 1 })),
  ]
  const columns = (alias: string) =>
    parts.map(({ name, side, line }) => `${alias}.${side}[${line}] as ${name}`).join(', ')
  const lines = parts.map(({ name, side, line }) => `pg_catalog.unnest(b.${side}[${line}:${line}]) as ${name}`)
  return `
select ${columns('e')} from ledgerman.entry e where e.id = $1::uuid and $2::integer = 0
union all
select ${columns('m')} from ledgerman.image m where m.entry = $1::uuid and m.step = $2::integer
union all
select ${lines.join(', ')} from ledgerman.image_block b where b.entry = $1::uuid and b.step = $2::integer`
}

/**
 * Puts the images of a step into the temporary table, each part as its column's type.
 *
 * @returns how many there are; which properties the entry changed in all of them, and which in none; and which cannot be put back, since the book has only
 * digests of what they were.
 */
export async function fillGiven(
  tables: WorkTables,
  step: UndoStep,
  shape: BulkShape,
): Promise<{ count: number; seen: ChangedIn; lost: Property[] }> {
  const { session } = tables
  const hidden = step.kind === 'add' ? [] : hiddenIn(step)
  const given = shape.given as GivenShape
  const left = given.left ?? []
  const flags = left.flatMap(({ isChanged }) => isChanged ?? [])
  const columns = [
    ...given.properties.map((property) => `${givenColumn(given, property)} ${givenType(property)}`),
    ...left.map(({ text }) => `${text} text`),
    ...flags.map((flag) => `${flag} boolean`),
    ...hidden.map((_, at) => `h${at + 1} boolean`),
  ]
  await tables.empty(GIVEN, `no bigint, line bigint, ${columns.join(', ')}`)
  const place = ({ column }: Property) => step.touched.indexOf(column.name) + 1
  const keyPlace = (property: Property) => shape.mapping.key.indexOf(property) + 1
  const values = given.properties.map((property) => {
    // A key stands there as the server casts it to text, which of money is not the number that other values are.
    if (property.key && step.kind !== 'remove')
      return `i.k${keyPlace(property)}::${property.column.type.comparable}::${givenType(property)}`
    return `i.b${place(property)}::${givenType(property)}`
  })
  const isChanged = (property: Property) =>
    step.kind === 'add' ? 'true' : `i.b${place(property)} is distinct from i.a${place(property)}`
  const changed = [...left.map(({ property }) => property), ...hidden].map(isChanged)
  const texts = left.map(({ property }) => `case when ${isChanged(property)} then i.a${place(property)} end`)
  const keys = shape.mapping.key.map((property) => values[given.properties.indexOf(property)])
  // In the order of the key, which is near to that of the table: rows that stand together are written one after the other.
  await session.query(
    `insert into ${GIVEN} select pg_catalog.row_number() over given, pg_catalog.row_number() over given, ${[...values, ...texts, ...changed].join(', ')}
from (${imagesSql(step)}) as i window given as (order by ${keys.join(', ')})`,
    [step.entry, String(step.no)],
  )
  const { rows } = await session.query(
    `select ${['pg_catalog.count(*)', ...flags.map((flag) => `pg_catalog.bool_and(${flag})`), ...flags.map((flag) => `pg_catalog.bool_or(${flag})`), ...hidden.map((_, at) => `pg_catalog.bool_or(h${at + 1})`)].join(', ')} from ${GIVEN}`,
  )
  const [count, ...all] = rows[0] ?? []
  await tables.filled(GIVEN, Number(count ?? 0))
  const own = left.map(({ property }) => property)
  const everywhere = new Set(own.filter((_, at) => all[at] === 't'))
  const nowhere = new Set(own.filter((_, at) => all[flags.length + at] === 'f'))
  const lost = hidden.filter((_, at) => all[2 * flags.length + at] === 't')
  return { count: Number(count ?? 0), seen: { everywhere, nowhere }, lost }
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
  const array = (texts: readonly string[]) => `to_json(array[${texts.join(', ')}]::text[])::text`
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
