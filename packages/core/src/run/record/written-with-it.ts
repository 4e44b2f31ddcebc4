import type { Receipt, StepKind } from '@ledgerman/contract'
import type { Mapping, Property } from '../../mapping/mapping.js'
import { sideWrites } from '../../mapping/side-writes.js'
import type { Queryable } from '../../sessions/queryable.js'
import { toTextArray } from '../../sessions/text-array.js'

/** Rows that were added, changed and removed. */
interface Counts {
  added: number
  changed: number
  removed: number
}

/** What a transaction wrote, as the server counted it. */
export interface WrittenWithIt {
  /** By table that it does not write itself. */
  tables: NonNullable<Receipt['writtenWithIt']>
  /** By table of its own, with its partitions and heirs: what it wrote itself is in these counts. */
  own: readonly ({ path: string; table: string } & Counts)[]
}

/** What a transaction writes itself: the rest was written by triggers, rules and foreign keys. */
interface OwnWrite {
  mapping: Mapping
  kind: StepKind
  set: readonly Property[]
}

/** Rows that a step wrote itself. */
export interface OwnRows {
  mapping: Mapping
  /** More than one where nobody knows which it did: an addition that may change. */
  kinds: readonly StepKind[]
  changed: number
}

// PostgreSQL, "The Cumulative Statistics System". What a session has not yet reported of earlier transactions is in the counts too: only a difference says
// something.
const COUNTS_SQL = `
with recursive owned as (
  select r.path, r.path::pg_catalog.regclass::pg_catalog.oid as root, r.path::pg_catalog.regclass::pg_catalog.oid as oid
  from pg_catalog.unnest($1::text[]) as r(path)
  union
  select owned.path, owned.root, h.inhrelid from owned join pg_catalog.pg_inherits h on h.inhparent = owned.oid
), own as (
  select distinct on (oid) oid, path, root from owned order by oid, path
)
select own.path, pg_catalog.quote_ident(n.nspname) || '.' || pg_catalog.quote_ident(c.relname),
  pg_catalog.sum(s.n_tup_ins), pg_catalog.sum(s.n_tup_upd), pg_catalog.sum(s.n_tup_del)
from pg_catalog.pg_stat_xact_all_tables s
left join own on own.oid = s.relid
join pg_catalog.pg_class c on c.oid = coalesce(own.root, s.relid)
join pg_catalog.pg_namespace n on n.oid = c.relnamespace
where s.n_tup_ins + s.n_tup_upd + s.n_tup_del > 0 and s.schemaname not in ('pg_catalog', 'pg_toast', 'ledgerman') and s.schemaname not like 'pg\\_temp%'
group by 1, 2 order by 2`

/**
 * Counts what is written beside the rows of these writes, in a transaction of this session: begun before the first of them.
 *
 * @returns what to ask when all is written; undefined where nothing can be written beside them, or one is not of a table of its own
 */
export async function countWrittenWithIt(
  session: Queryable,
  writes: readonly OwnWrite[],
): Promise<(() => Promise<WrittenWithIt>) | undefined> {
  const isTable = ({ mapping: { table } }: OwnWrite) => table.kind === 'table' || table.kind === 'partitioned table'
  const mayBeMore = writes.some(({ mapping, kind, set }) => sideWrites(mapping, kind, set).length > 0)
  if (!mayBeMore || !writes.every(isTable)) return undefined
  const own = toTextArray([...new Set(writes.map(({ mapping }) => mapping.table.sql))])
  const read = async () => {
    const { rows } = await session.query(COUNTS_SQL, [own])
    return rows.map(([path, table, ...counts]) => {
      const [added = 0, changed = 0, removed = 0] = counts.map(Number)
      return { path: path ?? null, table: table ?? '', added, changed, removed }
    })
  }
  const first = new Map((await read()).map((each) => [each.table, each]))
  return async () => {
    const written = (await read())
      .map((each) => ({ ...each, ...less(each, first.get(each.table)) }))
      .filter((each) => sum(each) > 0)
    return {
      tables: written.flatMap(({ path, ...each }) => (path === null ? [each] : [])),
      own: written.flatMap(({ path, ...each }) => (path === null ? [] : [{ path, ...each }])),
    }
  }
}

const sum = ({ added, changed, removed }: Counts) => added + changed + removed

const less = (all: Counts, part: Counts = { added: 0, changed: 0, removed: 0 }): Counts => ({
  added: all.added - part.added,
  changed: all.changed - part.changed,
  removed: all.removed - part.removed,
})

/**
 * What a receipt says of it: the counts; and in words what may be, where nobody counted, or more may have been done to its own rows.
 *
 * @param words what triggers, rules and foreign keys may have written, by name
 * @param late what triggers may have written to its own rows after they were returned
 */
export function toldBeside(
  words: readonly string[],
  late: readonly string[],
  counted: WrittenWithIt | null,
  wrote: readonly OwnRows[],
): Pick<Receipt, 'writtenWithIt' | 'notShown'> {
  const extra = counted && besideItsOwn(counted, wrote)
  const said = extra ? (extra.length > 0 ? late : []) : [...late, ...words]
  return {
    ...(counted && extra ? { writtenWithIt: [...extra, ...counted.tables] } : {}),
    ...(said.length > 0 ? { notShown: [...said] } : {}),
  }
}

/**
 * What was written to its own tables beside its own rows; null where the counts do not tell: not even its own rows were counted (`track_counts` is off,
 * a partition is a foreign table), or nobody knows whether it added or changed.
 */
function besideItsOwn({ own }: WrittenWithIt, wrote: readonly OwnRows[]): WrittenWithIt['tables'] | null {
  const paths = new Set([...own.map(({ path }) => path), ...wrote.map(({ mapping }) => mapping.table.sql)])
  const beside: WrittenWithIt['tables'] = []
  for (const path of paths) {
    const mine = wrote.filter(({ mapping, changed }) => mapping.table.sql === path && changed > 0)
    const counts = own.find((each) => each.path === path)
    const total = mine.reduce((rows, { changed }) => rows + changed, 0)
    const more = (counts ? sum(counts) : 0) - total
    if (more < 0) return null
    if (!counts || more === 0) continue
    if (mine.some(({ kinds }) => kinds.length > 1)) return null
    const rowsOf = (kinds: readonly StepKind[]) =>
      mine.reduce((rows, { kinds: [kind], changed }) => (kind && kinds.includes(kind) ? rows + changed : rows), 0)
    const rest = less(counts, {
      added: rowsOf(['add']),
      changed: rowsOf(['change', 'replace']),
      removed: rowsOf(['remove']),
    })
    // A row that an update moves to another partition is counted as removed and added.
    const moved = Math.max(0, -rest.changed)
    const told = { added: rest.added - moved, changed: rest.changed + moved, removed: rest.removed - moved }
    if (told.added < 0 || told.removed < 0) return null
    // Moved by an update that nobody here made, or added and removed: the counts are the same.
    if (mine.some(({ mapping }) => mapping.table.kind !== 'table') && told.added > 0 && told.removed > 0) return null
    if (sum(told) > 0) beside.push({ table: counts.table, ...told })
  }
  return beside
}
