const TYPES =
  'bool int2 int4 int8 numeric money float4 float8 text varchar bpchar date time timestamp timestamptz interval uuid json jsonb bytea _text _int4 _int8'
const OPERATORS = '+ - * / % = <> < <= > >= || ~~ ~ -> ->> #>>'
const FUNCTIONS = 'lower upper length abs round floor ceil btrim md5 sign hashtext date_part'

/**
 * Makes a schema with an operator for every two types that PostgreSQL has none for itself, and a function for every type that it has a general
 * one for: each raises an error. Where this schema is in the search path, a statement that leaves the choice to PostgreSQL springs one.
 */
export const TRAPS_SQL = `
create schema traps;
grant usage on schema traps to public;
do $do$
declare
  here constant oid := 'pg_catalog'::regnamespace;
  types constant oid[] := array(select oid from pg_type where typnamespace = here and typname = any ('{${TYPES.replaceAll(' ', ',')}}'));
  one oid; other oid; name text;
begin
  foreach one in array types loop
    foreach other in array types loop
      execute format('create function traps.sprung_%s_%s(%s, %s) returns boolean language plpgsql as $$ begin raise exception %L; end $$',
        one, other, one::regtype, other::regtype, format('a trap between %s and %s', one::regtype, other::regtype));
      foreach name in array '{${OPERATORS.replaceAll(' ', ',')}}'::text[] loop
        continue when exists (select from pg_operator where oprname = name and oprleft = one and oprright = other and oprnamespace = here);
        execute format('create operator traps.%s (leftarg = %s, rightarg = %s, function = traps.sprung_%s_%s)', name, one::regtype, other::regtype, one, other);
      end loop;
    end loop;
    for name in
      select distinct p.proname from pg_proc p join pg_type t on t.oid = p.proargtypes[0]
      where p.pronamespace = here and p.pronargs = 1 and p.prokind = 'f' and (t.typname like 'any%' or p.proname = any ('{${FUNCTIONS.replaceAll(' ', ',')}}'))
    loop
      continue when exists (select from pg_proc where proname = name and pronamespace = here and pronargs = 1 and proargtypes[0] = one);
      execute format('create function traps.%I(%s) returns boolean language plpgsql as $$ begin raise exception %L; end $$',
        name, one::regtype, format('a trap of %s', name));
    end loop;
  end loop;
end $do$`
