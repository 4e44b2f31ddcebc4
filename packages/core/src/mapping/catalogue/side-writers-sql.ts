/** A function's text without its comments and string literals, whose words are no commands. */
const CODE_SQL = String.raw`pg_catalog.regexp_replace(p.prosrc, $re$--[^\n]*|/\*([^*]|\*+[^*/])*\*+/|[eE]'([^'\\]|''|\\.)*'|'([^']|'')*'$re$, ' ', 'g')`

/**
 * Whether a trigger's function may write other rows than its own: it has a command that writes, text that it executes, or a call of a
 * volatile function that is not PostgreSQL's own. What is not written in PL/pgSQL cannot be read and may do anything.
 */
const MAY_WRITE_SQL = String.raw`case l.lanname when 'internal' then false when 'plpgsql' then (
  select code ~* '\m(insert|delete|merge|truncate|execute|call|copy|create|drop|alter)\M' or code ~* '(?<!\mfor\s+|\mfor\s+no\s+key\s+)\mupdate\M'
    or exists (select from pg_catalog.regexp_matches(code, '("(?:[^"]|"")+"|[[:alpha:]_][[:alnum:]_$]*)\s*\(', 'g') as m(called)
      join pg_proc q on q.proname = case when left(m.called[1], 1) = '"' then replace(btrim(m.called[1], '"'), '""', '"') else lower(m.called[1]) end
      where q.pronamespace <> 'pg_catalog'::regnamespace and q.provolatile = 'v')
  from (select ${CODE_SQL} as code) as source) else true end`

/** The text of a refusal in a function in PL/pgSQL, with its quotes doubled. */
const REFUSAL = String.raw`$re$(?:\mraise\s+(?:exception\s+)?|\mmessage\s*:?=\s*)[eE]?'((?:[^']|'')*)'$re$`

/** Whether a trigger fires when a row is changed, which may add it to another partition. */
const IS_ON_UPDATE = `(g.tgtype & 16 = 16 or (c.relkind = 'p' and g.tgtype & 4 = 4))`

/**
 * Parts of a WITH clause, after `wanted (oid)`: `side_writers (rel, list)` has of each relation a JSON array of `SideWriter`, `refusing
 * (rel, list)` one of what its triggers say where they refuse, and `fired (rel, for_rows, behind)` the triggers for each row, and those
 * behind which a row may be other than the statement returned it: they fire after it, or write in its place. Before that the
 * relations a write of each may reach (partitions, inheritance children, the tables under a view), and the trigger functions on them.
 * Each function is read once, however many triggers call it.
 */
export const SIDE_WRITERS_SQL = `reached (root, rel) as (
  select oid, oid from wanted
  union
  select r.root, n.rel from reached r cross join lateral (
    select h.inhrelid as rel from pg_inherits h where h.inhparent = r.rel
    union all
    select d.refobjid from pg_rewrite w join pg_depend d on d.classid = 'pg_rewrite'::regclass and d.objid = w.oid and d.refclassid = 'pg_class'::regclass
    where w.ev_class = r.rel and w.rulename = '_RETURN' and d.refobjid <> r.rel) as n
), firing as materialized (
  select r.root, g.tgname, g.tgtype, g.tgfoid from reached r join pg_trigger g on g.tgrelid = r.rel
  where not g.tgisinternal and g.tgparentid = 0 and g.tgenabled in ('O', 'A')
), fired as materialized (
  select f.root as rel, json_agg(json_build_object('name', f.tgname, 'when', f.fires, 'on', f.events) order by f.tgname) filter (where f.is_for_rows) as for_rows,
    json_agg(json_build_object('name', f.tgname, 'on', f.behind) order by f.tgname) filter (where f.behind <> '{}') as behind
  from (
    select g.root, g.tgname, case when g.tgtype & 64 = 64 then 'instead of' when g.tgtype & 2 = 2 then 'before' else 'after' end as fires,
      bool_or(g.tgtype & 1 = 1) as is_for_rows, ${eventsSql('bool_or(g.tgtype & 4 = 4)', `bool_or(${IS_ON_UPDATE})`, 'bool_or(g.tgtype & 8 = 8)')} as events,
      ${eventsSql('bool_or(g.tgtype & 6 = 4)', `bool_or(g.tgtype & 2 = 0 and ${IS_ON_UPDATE})`, 'false')} as behind
    from firing g join pg_class c on c.oid = g.root group by 1, 2, 3
  ) as f group by f.root
), writing as materialized (
  select p.oid from pg_proc p join pg_language l on l.oid = p.prolang where p.oid in (select tgfoid from firing) and ${MAY_WRITE_SQL}
), saying as materialized (
  select distinct p.oid, replace(m.says[1], '''''', '''') as says
  from pg_proc p join pg_language l on l.oid = p.prolang cross join lateral pg_catalog.regexp_matches(p.prosrc, ${REFUSAL}, 'gi') as m(says)
  where l.lanname = 'plpgsql' and p.oid in (select tgfoid from firing)
), refusing as materialized (
  select g.root as rel, json_agg(distinct s.says) as list from firing g join saying s on s.oid = g.tgfoid group by g.root
), side_writers as materialized (
  select s.root as rel, json_agg(json_build_object('name', s.name, 'by', s.by, 'on', s.events, 'table', s.relation, 'columns', s.columns) order by s.by, s.name) as list
  from (
    select g.root, g.tgname as name, 'trigger' as by, null as relation, ${eventsSql('g.tgtype & 4 = 4', 'g.tgtype & 16 = 16', 'g.tgtype & 8 = 8')} as events,
      null::text[] as columns
    from firing g join writing f on f.oid = g.tgfoid
    union
    select r.root, k.conname, 'foreign key', quote_ident(fn.nspname) || '.' || quote_ident(fc.relname),
      ${eventsSql('false', `k.confupdtype in ('n', 'd')`, `k.confdeltype in ('c', 'n', 'd')`)},
      (select array_agg(a.attname::text order by a.attnum) from pg_attribute a where a.attrelid = k.confrelid and a.attnum = any (k.confkey))
    from reached r join pg_constraint k on k.confrelid = r.rel and k.contype = 'f' and k.conparentid = 0
    join pg_class fc on fc.oid = k.conrelid join pg_namespace fn on fn.oid = fc.relnamespace
    where k.confupdtype in ('n', 'd') or k.confdeltype in ('c', 'n', 'd')
    union
    select r.root, w.rulename, 'rule', null, ${eventsSql(`w.ev_type = '3'`, `w.ev_type = '2'`, `w.ev_type = '4'`)}, null
    from reached r join pg_rewrite w on w.ev_class = r.rel and w.ev_type <> '1' and w.ev_enabled in ('O', 'A')
  ) as s group by s.root
)`

function eventsSql(insert: string, update: string, remove: string): string {
  return `array_remove(array[case when ${insert} then 'insert' end, case when ${update} then 'update' end, case when ${remove} then 'delete' end], null)`
}
