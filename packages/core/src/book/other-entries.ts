import { parseTablePath } from '@ledgerman/contract'
import type { Mapping } from '../mapping/mapping.js'
import type { Target } from '../target/target.js'
import { toTextArray } from '../sessions/text-array.js'

/** What the book may hold of a table's records under other keys than a mapping's, or through other relations. */
export interface OtherEntries {
  /** Columns of other keys that entries of the table are filed by. */
  keys: (readonly string[])[]
  /** Views of the table, its partitions, tables that inherit and the like, and such as are not there any more, of which there are entries too. */
  relations: string[]
}

const WRITTEN_SQL = `
select distinct s.relation, pg_catalog.to_json(s.key_columns)::text from ledgerman.statement s
where s.mapping <> '' and s.kind = any ('{change,replace,add,remove}')`

/**
 * Of the relations given as schemas and names, those that share rows with the first: what is under one is under the other. Behind them, with `t`,
 * those that are not there any more.
 */
const SHARING_SQL = `
with recursive named as (
  select x.no, c.oid from rows from (pg_catalog.unnest($1::text[]), pg_catalog.unnest($2::text[])) with ordinality as x(schema, name, no)
  left join pg_catalog.pg_namespace n on n.nspname = x.schema left join pg_catalog.pg_class c on c.relnamespace = n.oid and c.relname = x.name
), given as (
  select no, oid from named where oid is not null
), reached (no, rel) as (
  select no, oid from given
  union
  select r.no, n.rel from reached r cross join lateral (
    select h.inhrelid as rel from pg_catalog.pg_inherits h where h.inhparent = r.rel
    union all
    select d.refobjid from pg_catalog.pg_rewrite w join pg_catalog.pg_depend d on d.classid = 'pg_catalog.pg_rewrite'::pg_catalog.regclass
      and d.objid = w.oid and d.refclassid = 'pg_catalog.pg_class'::pg_catalog.regclass
    where w.ev_class = r.rel and w.rulename = '_RETURN' and d.refobjid <> r.rel) as n
)
select distinct o.no, false from reached o join reached own on own.rel = o.rel and own.no = 1 where o.no > 1
union all
select no, true from named where oid is null`

/** Reads both out of the book and the catalogue; the relations only where somebody is told of them. */
export async function otherEntries(
  target: Target,
  { table, key }: Mapping,
  tellsRelations: boolean,
): Promise<OtherEntries> {
  const { rows } = await target.readBook(WRITTEN_SQL, [])
  const own = key.map(({ column }) => column.name)
  const isOwn = (names: readonly string[]) => names.length === own.length && names.every((name, at) => name === own[at])
  const keys = rows.flatMap(([relation, columns]) => {
    const names = JSON.parse(columns ?? '[]') as string[]
    return relation === table.path && names.length > 0 && !isOwn(names) ? [names] : []
  })
  const relations = [...new Set(rows.map(([relation]) => relation ?? ''))].filter((path) => path !== table.path)
  if (relations.length === 0 || !tellsRelations) return { keys, relations: [] }
  const paths = [table.path, ...relations].map(parseTablePath)
  const sharing = await target.readBook(SHARING_SQL, [
    toTextArray(paths.map(({ schema }) => schema)),
    toTextArray(paths.map(({ name }) => name)),
  ])
  // One that is gone may have had another name; then its keys are among the columns of this one.
  const columns = new Set(table.columns.map(({ name }) => name))
  const mayBeThis = (path: string) =>
    rows.some(
      ([relation, names]) =>
        relation === path && (JSON.parse(names ?? '[]') as string[]).every((name) => columns.has(name)),
    )
  return {
    keys,
    relations: sharing.rows.flatMap(([no, isGone]) => {
      const path = relations[Number(no) - 2] ?? ''
      return isGone !== 't' || mayBeThis(path) ? [path] : []
    }),
  }
}
