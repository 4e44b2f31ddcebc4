import { findNearestName, toTablePath, type TablePath } from '@ledgerman/contract'
import type { Column, ForeignKey, Table, TableKind } from './table.js'
import { SIDE_WRITERS_SQL } from './side-writers-sql.js'
import { toColumnType, type ColumnType, type TypeRow } from '../../values/column-type.js'
import { toTextArray } from '../../sessions/text-array.js'
import type { Queryable, Rows } from '../../sessions/queryable.js'

/**
 * Reads all tables, partitioned tables, views and foreign tables from the live catalogue. System schemas, partitions' own entries and
 * the book are left out. Names are quoted by the server itself, since its own list of key words is the one that counts.
 *
 * @param session with an empty search path, here and below: the statements name PostgreSQL's functions without their schema, and types are
 *   told with theirs.
 * @returns in order of schema and name
 */
export async function readCatalogue(session: Queryable): Promise<Table[]> {
  return tablesFrom(await session.query(ALL_TABLES_SQL))
}

/** Reads the tables that are named, partitions too; what is not there, or is left out, is not among those that come back. */
export async function readTables(session: Pick<Queryable, 'query'>, names: readonly TablePath[]): Promise<Table[]> {
  const [only, ...others] = names
  if (!only) return []
  if (others.length === 0)
    return tablesFrom(await session.query(ONE_TABLE_SQL, [only.schema, only.name], 'catalogue_of_table'))
  const lists = [names.map(({ schema }) => schema), names.map(({ name }) => name)]
  return tablesFrom(await session.query(SOME_TABLES_SQL, lists.map(toTextArray), 'catalogue_of_tables'))
}

/**
 * The table that is likely to be meant by one that is not there: one of a similar name in its schema, or of the same name in another one.
 *
 * @returns its path
 */
export async function findNearestTable(
  session: Pick<Queryable, 'query'>,
  { schema, name }: TablePath,
): Promise<string | undefined> {
  const { rows } = await session.query(NEARBY_TABLES_SQL, [schema, name])
  const inSchema = rows.flatMap(([of, each]) => (of === schema ? [each ?? ''] : []))
  const nearest = findNearestName(name, inSchema)
  if (nearest !== undefined) return toTablePath(schema, nearest)
  const [elsewhere] = rows.find(([, each]) => each === name) ?? []
  return elsewhere ? toTablePath(elsewhere, name) : undefined
}

function tablesFrom({ rows }: Rows): Table[] {
  return rows.map(([text]) => tableFromRow(JSON.parse(text ?? '') as TableRow))
}

/**
 * Reads a type by the name a person gives it, such as `numeric` or `text[]`; undefined where there is none.
 *
 * @param asRole asks with the search path that whoever wrote the name means.
 */
export async function readType(
  session: Pick<Queryable, 'query'>,
  asRole: Queryable['query'],
  name: string,
): Promise<ColumnType | undefined> {
  const found = await asRole('select pg_catalog.to_regtype($1)::oid', [name])
  const { rows } = await session.query(TYPE_SQL, [found.rows[0]?.[0] ?? null])
  const [row] = rows
  return row && toColumnType(JSON.parse(row[0] ?? '') as TypeRow)
}

type ForeignKeyRow = Omit<ForeignKey, 'table'> & { schema: string; relation: string }

interface TableRow extends Omit<
  Table,
  'path' | 'columns' | 'kind' | 'keys' | 'uniques' | 'references' | 'referencedBy'
> {
  kind: string
  references: ForeignKeyRow[]
  referencedBy: ForeignKeyRow[]
  columns: (Omit<Column, 'type'> & { type: TypeRow })[]
  uniques: (Table['uniques'][number] & { usable: boolean })[]
}

const KINDS: Record<string, TableKind> = {
  r: 'table',
  p: 'partitioned table',
  v: 'view',
  m: 'materialized view',
  f: 'foreign table',
}

function tableFromRow(row: TableRow): Table {
  const columns = row.columns.map((column) => ({ ...column, type: toColumnType(column.type) }))
  const uniques = row.uniques.map(({ usable: _, ...unique }) => unique)
  const keys = uniques.filter((_, at) => row.uniques[at]?.usable)
  return {
    ...row,
    path: toTablePath(row.schema, row.name),
    kind: KINDS[row.kind] ?? 'table',
    columns,
    keys,
    uniques,
    references: row.references.map(foreignKeyFromRow),
    referencedBy: row.referencedBy.map(foreignKeyFromRow),
  }
}

function foreignKeyFromRow({ name, columns, otherColumns, schema, relation }: ForeignKeyRow): ForeignKey {
  return { name, columns, otherColumns, table: toTablePath(schema, relation) }
}

// format_type is called with typmod -1 for the comparable form: NULL would print "bit" and "character", which mean one
// bit and one character. The search path is emptied for the call, so that types outside pg_catalog carry their schema.
/** The schema of a type's default equality, where it has one of its own outside of pg_catalog; null for all others. */
function operatorsSql(type: string): string {
  return `case when ${type}.typnamespace <> 'pg_catalog'::regnamespace then (
    select quote_ident(opn.nspname) from pg_opclass oc join pg_am am on am.oid = oc.opcmethod and am.amname in ('btree', 'hash')
    join pg_amop ao on ao.amopfamily = oc.opcfamily and ao.amoplefttype = oc.opcintype and ao.amoprighttype = oc.opcintype
      and ao.amopstrategy = case am.amname when 'btree' then 3 else 1 end
    join pg_operator op on op.oid = ao.amopopr join pg_namespace opn on opn.oid = op.oprnamespace
    where oc.opcdefault and oc.opcintype = ${type}.oid order by am.amname limit 1) end`
}

const TYPE_JSON = `
  json_build_object(
    'sql', format_type(a.atttypid, a.atttypmod),
    'name', bt.typname, 'schema', btn.nspname, 'kind', bt.typtype, 'category', bt.typcategory,
    'typmod', case when ty.typtype = 'd' then r.typmod else a.atttypmod end,
    'comparable', format_type(bt.oid, -1), 'operators', ${operatorsSql('bt')},
    'domain', case when ty.typtype = 'd' then format_type(ty.oid, -1) end,
    'domainNotNull', ty.typtype = 'd' and ty.typnotnull, 'domains', rd.names,
    'labels', (select json_agg(e.enumlabel order by e.enumsortorder) from pg_enum e where e.enumtypid = coalesce(el.oid, bt.oid)),
    'element', case when el.oid is not null then json_build_object('typmod', coalesce(er.typmod, -1), 'domains', ed.names,
      'name', eb.typname, 'schema', ebn.nspname, 'kind', eb.typtype, 'category', eb.typcategory, 'delimiter', el.typdelim,
      'comparable', format_type(eb.oid, -1), 'operators', ${operatorsSql('eb')}) end)`

const DOMAINS_SQL = `
with recursive layer as (
  select oid, oid as base, typtype, typbasetype, typtypmod, -1 as typmod from pg_type where typtype = 'd'
  union all
  select b.oid, d.oid, d.typtype, d.typbasetype, d.typtypmod, greatest(b.typmod, b.typtypmod) from layer b join pg_type d on d.oid = b.typbasetype where b.typtype = 'd'
), domain as materialized (
  select oid, base, typmod from layer where typtype <> 'd'
), domains as materialized (
  select l.oid, json_agg(n.nspname || '.' || d.typname) as names
  from layer l join pg_type d on d.oid = l.base join pg_namespace n on n.oid = d.typnamespace where l.typtype = 'd' group by l.oid
)`

/** The types that `a.atttypid` is made of: `bt` below its domains, and where that is an array the element `el`, `eb` below its domains. */
const TYPE_JOINS = `
    join pg_type ty on ty.oid = a.atttypid
    left join domain r on r.oid = a.atttypid
    left join domains rd on rd.oid = a.atttypid
    join pg_type bt on bt.oid = coalesce(r.base, a.atttypid)
    join pg_namespace btn on btn.oid = bt.typnamespace
    left join pg_type el on el.oid = bt.typelem and bt.typoutput = 'pg_catalog.array_out'::regproc
    left join domain er on er.oid = el.oid
    left join domains ed on ed.oid = el.oid
    left join pg_type eb on eb.oid = coalesce(er.base, el.oid)
    left join pg_namespace ebn on ebn.oid = eb.typnamespace`

const TYPE_SQL = `
${DOMAINS_SQL}, a as materialized (
  select $1::oid as atttypid, -1 as atttypmod
)
select ${TYPE_JSON}::text
from a${TYPE_JOINS}`

const IS_LISTED = `c.relkind in ('r', 'p', 'v', 'm', 'f')
  and n.nspname not in ('pg_catalog', 'information_schema', 'ledgerman') and n.nspname not like 'pg\\_toast%' and n.nspname not like 'pg\\_temp%'`

/** The schema and name of everything that is listed. */
export const TABLE_PATHS_SQL = `
select n.nspname, c.relname from pg_class c join pg_namespace n on n.oid = c.relnamespace
where ${IS_LISTED} and not c.relispartition order by n.nspname, c.relname`

/**
 * Whether a trigger, or a rule without a condition, writes in the place of a change of, or an addition to, the view `c`. For PostgreSQL a column
 * is updatable only where rows can be removed as well.
 */
const WRITES_INSTEAD_SQL = `(exists (select from pg_trigger g where g.tgrelid = c.oid and g.tgtype & 64 = 64 and g.tgtype & 20 <> 0 and g.tgenabled in ('O', 'A'))
        or exists (select from pg_rewrite w where w.ev_class = c.oid and w.ev_type in ('2', '3') and w.is_instead and w.ev_qual = '<>' and w.ev_action <> '<>' and w.ev_enabled in ('O', 'A')))`

/** Of a foreign key to a partitioned table there is one more for each of its partitions, which says nothing new. */
const IS_ITS_OWN = `not exists (select from pg_constraint above where above.oid = k.conparentid and above.conrelid = k.conrelid)`

// What a table has many of and no index leads to, or what needs many joins, is read for all tables at once: looked up table by table it
// takes as long as the square of their number.
const catalogueSql = (wanted: string) => `
${DOMAINS_SQL}, wanted as materialized (
  select c.oid from pg_class c join pg_namespace n on n.oid = c.relnamespace
  where ${IS_LISTED} and ${wanted}
), columns_of as materialized (
  select c.oid as rel, json_agg(json_build_object(
    'name', a.attname, 'sql', quote_ident(a.attname), 'notNull', a.attnotnull,
    'default', case when a.attgenerated = '' then pg_get_expr(d.adbin, d.adrelid) end,
    'collation', (select quote_ident(cn.nspname) || '.' || quote_ident(co.collname) from pg_collation co join pg_namespace cn on cn.oid = co.collnamespace
      where co.oid = a.attcollation and not co.collisdeterministic),
    'identity', case a.attidentity when 'a' then 'always' when 'd' then 'by default' end,
    'generated', a.attgenerated <> '',
    'updatable', case when c.relkind in ('v', 'f') then pg_column_is_updatable(c.oid, a.attnum, true) or ${WRITES_INSTEAD_SQL} else c.relkind in ('r', 'p') end,
    'type', ${TYPE_JSON}) order by a.attnum) as list
  from wanted w join pg_class c on c.oid = w.oid join pg_attribute a on a.attrelid = c.oid${TYPE_JOINS}
    left join pg_attrdef d on d.adrelid = a.attrelid and d.adnum = a.attnum
  where a.attnum > 0 and not a.attisdropped group by c.oid
), referring as materialized (
  select k.confrelid as rel, json_agg(json_build_object('name', k.conname, 'schema', fn.nspname, 'relation', fc.relname,
    'columns', (select json_agg(a.attname order by x.ord) from unnest(k.confkey) with ordinality x(num, ord) join pg_attribute a on a.attrelid = k.confrelid and a.attnum = x.num),
    'otherColumns', (select json_agg(a.attname order by x.ord) from unnest(k.conkey) with ordinality x(num, ord) join pg_attribute a on a.attrelid = k.conrelid and a.attnum = x.num))
    order by k.conname) as list
  from wanted w join pg_constraint k on k.confrelid = w.oid join pg_class fc on fc.oid = k.conrelid join pg_namespace fn on fn.oid = fc.relnamespace
  where k.contype = 'f' and k.conparentid = 0 group by k.confrelid
), ${SIDE_WRITERS_SQL}
select json_build_object(
  'schema', n.nspname, 'name', c.relname, 'sql', quote_ident(n.nspname) || '.' || quote_ident(c.relname), 'kind', c.relkind,
  'rowSecurity', c.relrowsecurity,
  'isReadable', has_table_privilege(c.oid, 'select'),
  'deferrableKeys', coalesce((select json_agg(ic.relname order by ic.relname) from pg_index i join pg_class ic on ic.oid = i.indexrelid
    where i.indrelid = c.oid and i.indisunique and not i.indimmediate and i.indpred is null and i.indexprs is null), '[]'),
  'hasChildren', c.relkind = 'r' and c.relhassubclass and exists (select from pg_inherits h where h.inhparent = c.oid),
  'hasRules', c.relkind not in ('v', 'm') and c.relhasrules,
  'isPlain', c.relkind = 'r' and not c.relhasrules and not c.relhassubclass
    and not exists (select from pg_trigger g where g.tgrelid = c.oid and not g.tgisinternal and g.tgenabled <> 'D'),
  'hasPlainKeys', not exists (select from pg_index i where i.indrelid = c.oid
    and (i.indisexclusion or (i.indisunique and (i.indexprs is not null or i.indpred is not null)))),
  'approximateRows', case when c.reltuples >= 0 and c.relkind in ('r', 'm', 'f', 'p') then c.reltuples end,
  'approximateBytes', case when c.reltuples >= 0 and c.relkind in ('r', 'm') then c.relpages * pg_catalog.current_setting('block_size')::bigint end,
  'columns', coalesce(columns_of.list, '[]'),
  'uniques', coalesce((
    select json_agg(json_build_object(
      'name', ic.relname, 'primary', i.indisprimary,
      'columns', (select json_agg(a.attname order by k.ord)
                  from unnest(i.indkey[0:i.indnkeyatts - 1]) with ordinality k(num, ord) join pg_attribute a on a.attrelid = c.oid and a.attnum = k.num),
      'partialOver', case when i.indpred is not null then (select coalesce(json_agg(a.attname order by a.attnum), '[]')
                  from pg_depend pd join pg_attribute a on a.attrelid = c.oid and a.attnum = pd.refobjsubid
                  where pd.classid = 'pg_class'::regclass and pd.objid = i.indexrelid and pd.refclassid = 'pg_class'::regclass and pd.refobjid = c.oid
                    and a.attnum <> all (i.indkey[0:i.indnkeyatts - 1])) end,
      'usable', i.indimmediate and i.indpred is null and (
        select bool_and(a.attnotnull) from unnest(i.indkey[0:i.indnkeyatts - 1]) k(num) join pg_attribute a on a.attrelid = c.oid and a.attnum = k.num))
      order by not i.indisprimary, ic.relname)
    from pg_index i join pg_class ic on ic.oid = i.indexrelid
    where i.indrelid = c.oid and i.indisunique and i.indisvalid and i.indexprs is null), '[]'),
  'checks', coalesce((
    select json_agg(json_build_object('name', k.conname, 'definition', pg_get_constraintdef(k.oid, true),
      'columns', (select coalesce(json_agg(a.attname order by a.attnum), '[]') from pg_attribute a where a.attrelid = c.oid and a.attnum = any (k.conkey)))
      order by k.conname)
    from pg_constraint k where k.conrelid = c.oid and k.contype in ('c', 'x')), '[]'),
  'references', coalesce((
    select json_agg(json_build_object('name', k.conname, 'schema', fn.nspname, 'relation', fc.relname,
      'columns', (select json_agg(a.attname order by x.ord) from unnest(k.conkey) with ordinality x(num, ord) join pg_attribute a on a.attrelid = c.oid and a.attnum = x.num),
      'otherColumns', (select json_agg(a.attname order by x.ord) from unnest(k.confkey) with ordinality x(num, ord) join pg_attribute a on a.attrelid = k.confrelid and a.attnum = x.num))
      order by k.conname)
    from pg_constraint k join pg_class fc on fc.oid = k.confrelid join pg_namespace fn on fn.oid = fc.relnamespace
    where k.conrelid = c.oid and k.contype = 'f' and ${IS_ITS_OWN}), '[]'),
  'referencedBy', coalesce(referring.list, '[]'),
  'triggers', coalesce(fired.for_rows, '[]'), 'afterTriggers', coalesce(fired.behind, '[]'),
  'sideWriters', coalesce(side_writers.list, '[]'), 'refusals', coalesce(refusing.list, '[]'))::text
from wanted w join pg_class c on c.oid = w.oid join pg_namespace n on n.oid = c.relnamespace
  left join columns_of on columns_of.rel = c.oid left join referring on referring.rel = c.oid left join side_writers on side_writers.rel = c.oid
  left join refusing on refusing.rel = c.oid left join fired on fired.rel = c.oid
order by n.nspname, c.relname`

const ALL_TABLES_SQL = catalogueSql('not c.relispartition')

const NEARBY_TABLES_SQL = `
select n.nspname, c.relname from pg_class c join pg_namespace n on n.oid = c.relnamespace
where c.relkind in ('r', 'p', 'v', 'm', 'f') and (n.nspname = $1 or c.relname = $2)
  and has_schema_privilege(n.oid, 'usage') and has_any_column_privilege(c.oid, 'select')
order by 1, 2 limit 2000`

/** A text of its own: it is asked for again and again, and planning it takes several times as long as running it. */
const ONE_TABLE_SQL = catalogueSql('n.nspname = $1 and c.relname = $2')

const SOME_TABLES_SQL = catalogueSql(
  '(n.nspname, c.relname) in (select named.schema, named.name from unnest($1::text[], $2::text[]) as named(schema, name))',
)
