import type { Receipt, StepKind } from '@ledgerman/contract'
import type { Mapping, Property } from '../mapping/mapping.js'
import { sideWrites } from '../mapping/side-writes.js'
import type { Queryable } from '../sessions/queryable.js'
import { toTextArray } from '../values/text-array.js'

/** What a transaction wrote, as the server counted it. */
export interface WrittenWithIt {
  /** Rows of other tables. */
  tables: NonNullable<Receipt['writtenWithIt']>
  /** How many rows of its own tables: more than it was to write where triggers wrote there as well. */
  own: number
}

/** What a transaction writes itself: the rest was written by triggers, rules and foreign keys. */
interface OwnWrite {
  mapping: Mapping
  kind: StepKind
  set: readonly Property[]
}

/** By table: added, changed, removed. */
type Counts = ReadonlyMap<string, readonly [added: number, changed: number, removed: number]>

/** Where the counts of its own tables stand among the others. */
const OWN = ''

// PostgreSQL, "The Cumulative Statistics System". What a session has not yet reported of earlier transactions is in the counts too: only a difference says
// something.
const COUNTS_SQL = `
with recursive own as (
  select r.path::pg_catalog.regclass::pg_catalog.oid as oid from pg_catalog.unnest($1::text[]) as r(path)
  union
  select h.inhrelid from own join pg_catalog.pg_inherits h on h.inhparent = own.oid
)
select case when s.relid not in (select oid from own) then pg_catalog.quote_ident(s.schemaname) || '.' || pg_catalog.quote_ident(s.relname) else '' end,
  pg_catalog.sum(s.n_tup_ins), pg_catalog.sum(s.n_tup_upd), pg_catalog.sum(s.n_tup_del)
from pg_catalog.pg_stat_xact_all_tables s
where s.n_tup_ins + s.n_tup_upd + s.n_tup_del > 0 and s.schemaname not in ('pg_catalog', 'pg_toast', 'ledgerman') and s.schemaname not like 'pg\\_temp%'
group by 1 order by 1`

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
  const read = async (): Promise<Counts> => {
    const { rows } = await session.query(COUNTS_SQL, [own])
    return new Map(rows.map(([table, ...counts]) => [table ?? '', counts.map(Number) as [number, number, number]]))
  }
  const first = await read()
  return async () => {
    const now = await read()
    const written = [...now].flatMap(([table, counts]) => {
      const [added = 0, changed = 0, removed = 0] = counts.map((count, at) => count - (first.get(table)?.[at] ?? 0))
      return added + changed + removed > 0 ? [{ table, added, changed, removed }] : []
    })
    const own = written.find(({ table }) => table === OWN)
    return {
      tables: written.filter((each) => each !== own),
      own: own ? own.added + own.changed + own.removed : 0,
    }
  }
}

/**
 * What a receipt says of it: the counts; and in words what may be, where nobody counted, or rows of its own tables were written beside its own.
 *
 * @param words what triggers, rules and foreign keys may have written, by name
 * @param changed how many rows were to be written
 */
export function toldBeside(
  words: readonly string[],
  counted: WrittenWithIt | null,
  changed: number,
): Pick<Receipt, 'writtenWithIt' | 'notShown'> {
  // Where not even its own rows were counted (`track_counts` is off, a partition is a foreign table), nothing is known of others.
  const trusted = counted !== null && counted.own >= changed ? counted : null
  const isAllCounted = trusted !== null && trusted.own <= changed
  return {
    ...(trusted ? { writtenWithIt: trusted.tables } : {}),
    ...(isAllCounted || words.length === 0 ? {} : { notShown: [...words] }),
  }
}
