import { isOfARow } from '../bulk-errors.js'
import { emptyReport, nothingGiven } from '../bulk-request.js'
import { givenColumn, keptProperties, type BulkShape, type GivenShape } from '../bulk-shape.js'
import { SHOWN_ROWS } from '../find-statements.js'
import { asLeftSql, FoundRows } from '../found-rows.js'
import { ToldRows } from '../told-rows.js'
import type { UnitResult } from '../unit-options.js'
import { shortBulk } from '../write-statements.js'
import type { Property } from '../../mapping/mapping.js'
import type { OwnSession } from '../../sessions/own-session.js'
import { outputSql } from '../../statement/keyed-statement.js'
import { ruleVerdictSql } from '../../statement/rule-sql.js'
import { versionBumpSql } from '../../statement/set-sql.js'
import { bindValues, SlotList, toStatement, type Statement } from '../../statement/statement.js'
import type { Target } from '../../target/target.js'
import { ImageLines } from './image-lines.js'
import { shapeOf } from './undo-shape.js'
import { restored, type UndoStep } from './undo-steps.js'

/** A table of which more than one row in so many is put back is read as a whole: looking up each row takes longer. */
const ROWS_A_LOOK_UP = 20

/** How long a row is about, of a table that was never analyzed. */
const BYTES_A_ROW = 100

/** What the statement does beside what it comes to, in words. */
const AROUND = [
  'Reads what is put back, g, out of the images of the entry.',
  'Writes a row only where it is as the entry left it. Where that leaves one out all is undone, and put back row by row.',
  'On commit, writes the entry in the same transaction.',
]

/** The version that Ledgerman counts up, where the images of a step have one. */
function versionIn({ mapping: { guard }, touched }: UndoStep): Property | null {
  if (guard.by !== 'version' || guard.bumpedBy !== 'ledgerman') return null
  return touched.includes(guard.property.column.name) ? guard.property : null
}

/**
 * Whether the images of a step hold nothing beside what is put back and the version: then, of rows that are as the entry left them, its images
 * turned round are those of its reversal.
 */
function isTurnable(step: UndoStep): boolean {
  if (step.kind !== 'change' && step.kind !== 'replace') return false
  const { set, expected } = restored(step)
  if (step.mapping.key.some(({ sensitive }) => sensitive)) return false
  // Records whose keys it changed stand in its images under other keys than in those of its reversal.
  if (set.some(({ key }) => key)) return false
  const said = [...set.filter((property) => expected.includes(property)), versionIn(step)].map(
    (property) => property?.column.name,
  )
  return step.touched.every((column) => said.includes(column))
}

/**
 * Puts a step back by its images alone, which stand in the book turned round: nothing is copied into a table, and no image is read out of the rows
 * again. So it takes about as long as the change did. Only where every row is as the entry left it in all that the images hold, and all
 * versions went on by as much since; a look at the first blocks tells most others. The rows themselves are judged as they are written, behind a savepoint.
 *
 * @param no the number of the step in the reversal
 * @param entry the entry that the reversal leaves
 * @returns null, with nothing done, where that is not so
 */
export async function putBackTurned(
  target: Target,
  session: OwnSession,
  step: UndoStep,
  { no, entry }: { no: number; entry: string },
): Promise<UnitResult | null> {
  if (!isTurnable(step)) return null
  const turning = new Turning(step, no)
  const ask = (statement: Statement) => session.query(statement.text, valuesOf(statement))
  const { rows: sizes } = await ask(turning.sizes())
  const [blocks, singles, isMost] = sizes[0] ?? []
  const count = Number(blocks ?? 0)
  if (count === 0 || singles === 't') return null
  const { rows: looked } = await ask(turning.look())
  const since = looked[0]?.[1] ?? ''
  if (since === '' || looked.some(([isLeft, own]) => isLeft !== 't' || own !== since)) return null
  const write = turning.write(since)
  await session.query('savepoint turned')
  try {
    if (isMost === 't') await session.query('set local enable_nestloop = off')
    const images = await ask(turning.images(entry, since))
    const written = await ask(write)
    if (isMost === 't') await session.query('set local enable_nestloop to default')
    if (Number(images.rows[0]?.[0]) === count && written.rowCount === count) {
      await session.query('set constraints all immediate')
      await session.query('release savepoint turned')
      const done = { matched: count, changed: count }
      const shown = new ToldRows(target, turning.shape).rows(looked.map((row) => row.slice(1)))
      return {
        report: { ...emptyReport(), ...done, rows: shown },
        failed: [],
        evidence: { matched: count, digest: null },
        steps: [
          {
            kind: 'change',
            statement: write,
            binds: valuesOf(write),
            ...done,
            expected: 'any',
          },
        ],
      }
    }
  } catch (error) {
    // Which row it is, is found out by those who read them one by one.
    if (!isOfARow(error)) throw error
  }
  await session.query('rollback to savepoint turned')
  return null
}

/** All that these statements bind was known when they were built: where the images stand, and what rules compare with. */
function valuesOf(statement: Statement): (string | null)[] {
  return bindValues(statement, (source, slot) => ('text' in source ? source.text : nothingGiven(source, slot)))
}

/** The statements that put one step back by its images alone. The images are rows under `g`, as those of the temporary table are. */
class Turning {
  readonly shape: BulkShape
  readonly #version: Property | null
  readonly #rows: FoundRows

  constructor(
    readonly step: UndoStep,
    readonly no: number,
  ) {
    this.#version = versionIn(step)
    // Whatever the images hold has to be as it was left, in each row: so it is known of all of them what they are now.
    const everywhere = new Set(restored(step).expected)
    this.shape = { ...shapeOf(step, { everywhere, nowhere: new Set() }), step: no }
    this.#rows = new FoundRows(this.shape, false)
  }

  /** How many rows the blocks hold; whether others stand outside them; whether they are a good part of the table. */
  sizes(): Statement {
    const slots = new SlotList()
    const [entry, step] = this.#place(slots)
    const { sql } = this.step.mapping.table
    const table = `'${sql.replaceAll("'", "''")}'`
    return toStatement(
      `select s.rows, exists (select 1 from ledgerman.image m where m.entry = ${entry}::uuid and m.step = ${step}::integer),
  s.rows * ${ROWS_A_LOOK_UP} > (
    select pg_catalog.sum(case when c.reltuples >= 0::real then c.reltuples::bigint else pg_catalog.pg_relation_size(c.oid) / ${BYTES_A_ROW} end)::bigint
    from pg_catalog.pg_class c
    where c.relkind = 'r' and c.oid in (select ${table}::pg_catalog.regclass union select p.relid from pg_catalog.pg_partition_tree(${table}) as p)
  )
from (select pg_catalog.sum(b.rows) as rows from ledgerman.image_block b where b.entry = ${entry}::uuid and b.step = ${step}::integer) as s`,
      slots,
    )
  }

  /**
   * The rows of the first blocks: whether each is as it was left, and by how much its version went on; then as a receipt shows it: nothing, key, columns before
   * and after.
   */
  look(): Statement {
    const slots = new SlotList()
    const { mapping, touched } = this.shape
    const [entry, step] = this.#place(slots)
    const images = this.#given(
      `(
  select * from (
    select b.*, pg_catalog.sum(b.rows) over (order by b.prefix) - b.rows as earlier from ledgerman.image_block b where b.entry = ${entry}::uuid and b.step = ${step}::integer
  ) as b where b.earlier < ${SHOWN_ROWS}
) as b`,
    )
    const news = this.shape.news(this.shape.newJoins(), slots)
    const read = (sqlOf: (property: Property) => string) =>
      touched.map((property) => this.#rows.read(sqlOf(property), property))
    const on = this.#version ? `(t.${this.#version.column.sql} - g.left_version)::text` : `'0'`
    return toStatement(
      `select ${[
        `coalesce(g.is_exact and ${asLeftSql(this.shape.given?.left ?? [], slots)}, false)`,
        `coalesce(${on}, '')`,
        outputSql('t', mapping.key),
        ...read(({ column }) => `t.${column.sql}`),
        ...read((property) => this.#rows.valueAfter(property, 't', news)),
      ].join(', ')}
from (${images}) as g left join ${mapping.table.sql} as t on ${this.#rows.sameKey()}
order by ${mapping.key.map((property) => `g.${givenColumn(this.shape.given as GivenShape, property)}`).join(', ')}
limit ${SHOWN_ROWS}`,
      slots,
    )
  }

  /** Inserts the blocks as those of the reversal: before and after change places, and versions go on. Gives how many rows they hold. */
  images(own: string, since: string): Statement {
    const slots = new SlotList()
    const [entry, step] = this.#place(slots)
    const id = slots.add({ name: ':id', type: 'uuid', sensitive: false, source: { from: 'value', text: own, at: '' } })
    const by = this.#since(slots, since)
    const line = (side: 'before' | 'after', property: Property) => {
      const place = this.step.touched.indexOf(property.column.name) + 1
      if (property !== this.#version) return `b.${side}[${place}:${place}]`
      const value = `(u.value::bigint + ${by}::bigint${side === 'before' ? ' + 1' : ''})::text`
      // `unnest` gives the rows in their order, and nothing here puts them in another.
      return `array[array(select ${value} from pg_catalog.unnest(b.after[${place}:${place}]) as u(value))]`
    }
    const side = (of: 'before' | 'after') =>
      keptProperties(this.shape)
        .map((property) => line(of, property))
        .join(' operator(pg_catalog.||) ')
    return toStatement(
      `with turned as (
  insert into ledgerman.image_block (entry, step, bits, prefix, rows, key, before, after)
  select ${id}::uuid, ${this.no}, b.bits, b.prefix, b.rows, b.key, ${side('after')}, ${side('before')}
  from ledgerman.image_block b where b.entry = ${entry}::uuid and b.step = ${step}::integer and ${by}::bigint is not null
  returning rows
)
select coalesce(pg_catalog.sum(rows), 0) from turned`,
      slots,
    )
  }

  /** Writes the rows that are as they were left; its command tag says how many those are. */
  write(since: string): Statement {
    const slots = new SlotList()
    const { mapping, set } = this.shape
    const news = this.shape.news(this.shape.newJoins(), slots)
    const [entry, step] = this.#place(slots)
    const images = this.#given(`ledgerman.image_block b where b.entry = ${entry}::uuid and b.step = ${step}::integer`)
    const conditions = [this.#rows.sameKey(), 'g.is_exact', asLeftSql(this.shape.given?.left ?? [], slots)]
    if (this.#version)
      conditions.push(`t.${this.#version.column.sql} = g.left_version + ${this.#since(slots, since)}::bigint`)
    if (mapping.rules.length > 0)
      conditions.push(
        `(${ruleVerdictSql(mapping, (property) => this.#rows.valueAfter(property, 't', news), slots)}) is null`,
      )
    const assignments = [...set.map(({ column }, at) => `${column.sql} = ${news[at]}`), ...versionBumpSql(mapping, 't')]
    return toStatement(
      `update ${mapping.table.sql} as t
set ${assignments.join(', ')}
from (${images}) as g
where ${conditions.join(' and ')}`,
      slots,
      () => {
        const short = shortBulk(this.#rows, slots)
        return short && { ...short, around: AROUND }
      },
    )
  }

  /**
   * The images of blocks as given rows, in the order of the key, which is near to that of the table. `is_exact` says that a column holds what is put back just as
   * the image has it, which it does not where the column was made shorter since.
   */
  #given(from: string): string {
    const { mapping, given } = this.shape
    const lines = new ImageLines(this.step)
    const { properties, set, left = [] } = given as GivenShape
    const exact = set.map((property) => lines.isExact(property))
    const columns = [
      ...properties.map((property) => `${lines.given(property)} as ${givenColumn(given as GivenShape, property)}`),
      ...left.map(({ property, text }) => `${lines.text('after', property)} as ${text}`),
      ...(this.#version ? [`${lines.text('after', this.#version)}::bigint as left_version`] : []),
      `${exact.join(' and ')} as is_exact`,
    ]
    const order = mapping.key.map((property) => lines.key(property)).join(', ')
    return `select ${columns.join(', ')} from (${lines.blocksSql(from)}) as i order by ${order}`
  }

  #place(slots: SlotList): [entry: string, step: string] {
    const value = (name: string, type: string, text: string) =>
      slots.add({ name, type, sensitive: false, source: { from: 'value', text, at: '' } })
    return [value(':entry', 'uuid', this.step.entry), value(':step', 'integer', String(this.step.no))]
  }

  #since(slots: SlotList, since: string): string {
    return slots.add({
      name: ':since',
      type: 'bigint',
      sensitive: false,
      source: { from: 'value', text: since, at: '' },
    })
  }
}
