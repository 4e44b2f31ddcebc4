-- Statements that somebody keeps in a file.
\set ON_ERROR_STOP on

select code, title from programme where code = 'P-107';

update programme set priority = 1; -- finds every-row

update programme set priority = 1 where code = 'P-107';

delete from exposure where 1 = 1; -- finds every-row

select code from programme where contact_email = null; -- finds null-comparison

select code from programme where contact_email is null;

select titel from programme; -- finds unknown-name

select code from programms; -- finds unknown-name

insert into telescope (code, name) values ('HF9', 'Nine; the last'), ('HF8', 'it''s');

insert into exposure (id, block_id) values (1, 2); -- finds key-assigned

select code from from programme; -- finds does-not-parse

update observer set name = 'x' where name = 'y'; -- finds not-one-row

create function touch() returns trigger language plpgsql as $$
begin
  new.updated_at := now();
  return new;
end
$$;

copy telescope (code, name) from stdin;
HF7	Seven; the seventh
\.

select id from observer where id not in (select assigned_to from block); -- finds null-comparison

begin;
update block set state = 'done' where id = 3;
commit;
