import { GIVEN, givenColumn, type BulkShape, type GivenShape } from '../bulk/bulk-shape.js'
import { givenType } from '../bulk/file-job.js'
import { leftTextsSql, sameGivenSql } from '../bulk/found-rows.js'
import { SHOWN_ROWS } from '../bulk/find-statements.js'
import { ToldRows } from '../bulk/told-rows.js'
import type { Property } from '../mapping/mapping.js'
import type { OwnSession } from '../sessions/own-session.js'
import { bindValues, SlotList, type Statement } from '../statement/statement.js'
import type { Target } from '../target/target.js'
import { digestKeyPads } from '../values/digest.js'
import { hiddenIn, type UndoStep } from './undo-steps.js'
import { type ChangedRow } from './reversal-problems.js'

/**
 * A step's images, wherever the book keeps them: a column for each part, `k1 …` of the key, `b1 …` before and `a1 …` after. Of a block the
 * lines are unnested side by side: to look a place up in an array of texts takes as long as the place is far in it.
 */
function imagesSql({ mapping, touched }: UndoStep): string {
  const parts = [
    ...mapping.key.map((_, at) => ({ name: `k${at + 1}`, side: 'key', line: at + 1 })),
    ...touched.map((_, at) => ({ name: `b${at + 1}`, side: 'before', line: at + 1 })),
    ...touched.map((_, at) => ({ name: `a${at + 1}`, side: 'after', line: at + 1 })),
  ]
  const columns = (alias: string) =>
    parts.map(({ name, side, line }) => `${alias}.${side}[${line}] as ${name}`).join(', ')
  const names = parts.map(({ name }) => name).join(', ')
  const lines = parts.map(({ side, line }) => `pg_catalog.unnest(b.${side}[${line}:${line}])`)
  return `
select ${columns('e')} from ledgerman.entry e where e.id = $1::uuid and $2::integer = 0
union all
select ${columns('m')} from ledgerman.image m where m.entry = $1::uuid and m.step = $2::integer
union all
select ${names} from ledgerman.image_block b cross join lateral rows from (${lines.join(', ')}) as i(${names}) where b.entry = $1::uuid and b.step = $2::integer`
}

/** Puts the images of a step into the temporary table, each part as its column's type. */
export async function fillGiven(session: OwnSession, step: UndoStep, shape: BulkShape): Promise<void> {
  const given = shape.given as GivenShape
  const expected = given.expected ?? []
  const columns = given.properties.map((property) => `${givenColumn(given, property)} ${givenType(property)}`)
  await session.query('drop table if exists pg_temp.ledgerman_given')
  await session.query(
    `create temporary table ledgerman_given (no bigint, line bigint, ${columns.join(', ')}${given.expected ? ', expected text[], changed boolean[]' : ''})`,
  )
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
  const left = given.expected
    ? [
        `array[${expected.map((property) => `case when ${isChanged(property)} then i.a${place(property)} end`).join(', ')}]::text[]`,
        `array[${expected.map(isChanged).join(', ')}]::boolean[]`,
      ]
    : []
  await session.query(
    `insert into ${GIVEN} select pg_catalog.row_number() over (), pg_catalog.row_number() over (), ${[...values, ...left].join(', ')}
from (${imagesSql(step)}) as i`,
    [step.entry, String(step.no)],
  )
  await session.query('analyze pg_temp.ledgerman_given')
}

/** A sensitive value that was changed, or removed, cannot be put back: the book has only its digest. */
export async function lostSecrets(session: OwnSession, step: UndoStep): Promise<Property[]> {
  const hidden = step.kind === 'add' ? [] : hiddenIn(step)
  if (hidden.length === 0) return []
  const place = ({ column }: Property) => step.touched.indexOf(column.name) + 1
  const { rows } = await session.query(
    `select ${hidden.map((property) => `pg_catalog.bool_or(i.b${place(property)} is distinct from i.a${place(property)})`).join(', ')} from (${imagesSql(step)}) as i`,
    [step.entry, String(step.no)],
  )
  return hidden.filter((_, at) => rows[0]?.[at] === 't')
}

/** Rows that are not as the entry left them, with both values. */
export async function changedRows(target: Target, session: OwnSession, shape: BulkShape): Promise<ChangedRow[]> {
  const { mapping, given } = shape
  const expected = given?.expected ?? []
  const slots = new SlotList()
  const texts = leftTextsSql(expected, slots)
  const keys = mapping.key.map((property) => `g.${givenColumn(given as GivenShape, property)}`)
  const [first] = mapping.key
  const { rows } = await session.query(
    `select to_json(g.expected)::text, case when t.${first?.column.sql} is not null then to_json(${texts})::text end, ${keys.join(', ')}
from ${GIVEN} as g left join ${mapping.table.sql} as t on ${mapping.key.map((property) => sameGivenSql(property, given)).join(' and ')}
where t.${first?.column.sql} is null or ${texts} is distinct from g.expected order by g.no limit ${SHOWN_ROWS}`,
    bindValues({ slots: slots.slots } as Statement, () => digestKeyPads(target.digestKey)),
  )
  const told = new ToldRows(target, shape)
  return rows.map(([left, now, ...key]) => ({
    key: told.key(key),
    ...told.sides(
      expected,
      JSON.parse(left ?? '[]') as string[],
      now === null || now === undefined ? null : (JSON.parse(now) as string[]),
    ),
  }))
}
