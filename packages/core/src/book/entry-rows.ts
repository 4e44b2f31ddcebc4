import { LedgermanProblem, type EntryRow, type EntryRows, type RecordValues } from '@ledgerman/contract'
import type { Mapping, Property } from '../mapping/mapping.js'
import { ROWS_OF_BLOCK_SQL } from '../statement/image-block-sql.js'
import { readThroughCursor } from '../target/read-through-cursor.js'
import type { Target } from '../target/target.js'
import { bookedRow, type BookedImage, type BookedStatement } from './booked-row.js'
import { assertBookPrepared } from './entry-filter.js'
import { isEntryId, noSuchEntry } from './entry-id.js'
import type { FindMapping } from './find-mapping.js'

const ROWS_AT_A_TIME = 1_000

/** Rows as they come, and the paths of what a line of CSV has of each. */
export interface ExportedRows {
  columns: readonly (readonly string[])[]
  batches: AsyncGenerator<RecordValues[], void, undefined>
}

/**
 * A page of the rows that an entry wrote, step by step, with the values before and after.
 *
 * @param after the `next` of the page before
 * @throws LedgermanProblem not-found, book-not-prepared, request-invalid, target-unavailable
 */
export async function entryRows(
  target: Target,
  id: string,
  { limit, after }: { limit: number; after?: string | undefined },
  findMapping: FindMapping,
): Promise<EntryRows> {
  const steps = await stepsOf(target, id, findMapping)
  const from = after === undefined ? 0 : placeOf(after)
  try {
    const { rows } = await target.readBook(PAGE_SQL, [id, String(from), String(limit + 1)])
    const shown = rows.slice(0, limit).map(([json]) => toRow(json, steps))
    return { rows: shown, next: rows.length > limit ? String(from + limit) : null }
  } catch (error) {
    throw target.explain(error)
  }
}

/**
 * All rows that an entry wrote, in batches, as their reader takes them.
 *
 * @throws LedgermanProblem not-found, book-not-prepared, too-many-requests; and from the batches cancelled, target-unavailable
 */
export async function exportEntryRows(
  target: Target,
  id: string,
  findMapping: FindMapping,
  signal: AbortSignal,
): Promise<ExportedRows> {
  const steps = await stepsOf(target, id, findMapping)
  const read = {
    text: `declare found no scroll cursor for ${ALL_SQL}`,
    values: [id],
    atATime: ROWS_AT_A_TIME,
    isOfBook: true,
    signal,
    explain: (error: unknown) => target.explain(error),
  }
  return { columns: columnsOf(steps), batches: readThroughCursor(target, read, ([json]) => toRow(json ?? null, steps)) }
}

/** A step of an entry: what was run, and the mapping in the revision that it had then. */
interface BookedStep {
  no: number
  statement: BookedStatement | null
  mapping: Mapping | undefined
}

const STEPS_SQL = `
select pg_catalog.jsonb_build_object('no', s.no, 'statement', to_jsonb(t))::text
from ledgerman.entry e
left join lateral (
  select 1 as no, e.statement where e.run is null
  union all
  select p.no, p.statement from pg_catalog.json_to_recordset(e.steps) as p(no integer, statement bigint) where e.run is not null
) as s on true
left join ledgerman.statement t on t.id = s.statement
where e.id = $1 order by s.no`

async function stepsOf(target: Target, id: string, findMapping: FindMapping): Promise<Map<number, BookedStep>> {
  await assertBookPrepared(target)
  if (!isEntryId(id)) throw noSuchEntry(target, id)
  const { rows } = await target.readBook(STEPS_SQL, [id]).catch((error: unknown) => {
    throw target.explain(error)
  })
  if (rows.length === 0) throw noSuchEntry(target, id)
  const steps = new Map<number, BookedStep>()
  for (const [json] of rows) {
    const step = JSON.parse(json ?? '') as Omit<BookedStep, 'mapping'>
    const { mapping, revision } = step.statement ?? { mapping: '', revision: 0 }
    steps.set(step.no, { ...step, mapping: mapping === '' ? undefined : await findMapping(mapping, revision) })
  }
  return steps
}

/** The rows of the book that hold rows of an entry, in order, each with how many it holds: a block about a thousand, all others one. */
const PLACES_SQL = `
select 1 as step, 'entry' as held, e.ctid as place, 1 as rows from ledgerman.entry e
where e.id = $1 and e.run is null and (e.before is not null or e.after is not null)
union all
select i.step, 'image', i.ctid, 1 from ledgerman.image i where i.entry = $1
union all
select b.step, 'block', b.ctid, b.rows from ledgerman.image_block b where b.entry = $1`

/** What each of the places `c` holds, in order. */
const HELD_SQL = `cross join lateral (
  select e.key, e.before, e.after, 1 as at from ledgerman.entry e where c.held = 'entry' and e.ctid = c.place
  union all
  select i.key, i.before, i.after, 1 from ledgerman.image i where c.held = 'image' and i.ctid = c.place
  union all
  select r.key, r.before, r.after, pg_catalog.row_number() over ()
  from ledgerman.image_block b cross join lateral ${ROWS_OF_BLOCK_SQL} as r where c.held = 'block' and b.ctid = c.place
) as h`

const ROW_SQL = `pg_catalog.jsonb_build_object('step', c.step, 'key', h.key, 'before', h.before, 'after', h.after)::text`

const ALL_SQL = `select ${ROW_SQL} from (select * from (${PLACES_SQL}) as p order by step, held, place offset 0) as c ${HELD_SQL}`

/** Only the blocks that a page reaches into are unpacked. */
const PAGE_SQL = `select ${ROW_SQL} from (
  select *, pg_catalog.sum(rows) over (order by step, held, place) - rows as before_it from (${PLACES_SQL}) as p
) as c ${HELD_SQL}
where c.before_it < $2::bigint + $3::bigint and c.before_it + c.rows > $2::bigint
  and c.before_it + h.at > $2::bigint and c.before_it + h.at <= $2::bigint + $3::bigint
order by c.before_it + h.at`

function toRow(json: string | null | undefined, steps: ReadonlyMap<number, BookedStep>): EntryRow {
  const { step: no, ...image } = JSON.parse(json ?? '') as BookedImage & { step: number }
  const { statement = null, mapping } = steps.get(no) ?? {}
  return {
    step: no,
    kind: statement?.kind ?? 'sql',
    mapping: mapping?.name ?? (statement?.mapping || null),
    ...bookedRow(image, statement, mapping, () => true),
  }
}

/** The step, its kind and mapping, each part of a key, and each property that was written, as it was beside as it is. */
function columnsOf(steps: ReadonlyMap<number, BookedStep>): string[][] {
  const [keys, touched] = [new Set<string>(), new Set<string>()]
  for (const { statement, mapping } of steps.values()) {
    if (!statement) continue
    const named = (columns: readonly string[]) => columns.map((column) => nameOf(column, mapping?.properties))
    for (const name of named(statement.key_columns)) keys.add(name)
    for (const name of named(statement.touched)) touched.add(name)
  }
  return [
    ['step'],
    ['kind'],
    ['mapping'],
    ...[...keys].map((name) => ['key', name]),
    ...[...touched].flatMap((name) => [
      ['before', name],
      ['after', name],
    ]),
  ]
}

function nameOf(column: string, properties: readonly Property[] | undefined): string {
  return properties?.find((property) => property.column.name === column)?.name ?? column
}

function placeOf(after: string): number {
  const place = Number(after)
  if (/^\d{1,15}$/.test(after)) return place
  throw new LedgermanProblem(
    'request-invalid',
    `after: expected the next of the page before, got ${JSON.stringify(after.slice(0, 40))}.`,
    {
      where: 'after',
    },
  )
}
