-- Statements with nothing wrong: each is sound for the rules that it names, which find something in its neighbour of another file.

select code, title from programme where code = 'P-107'; -- sound does-not-parse, unknown-name, not-one-row
select p.code, b.id from programme p join block b on b.programme_id = p.id where b.state = 'planned'; -- sound does-not-parse, unknown-name
with late as (select id, night from block where night > current_date) select l.id from late l order by l.night; -- sound does-not-parse, unknown-name
select count(*) filter (where quality > 3), avg(quality) from exposure group by block_id having count(*) > 1; -- sound does-not-parse, unknown-name
select code, rank() over (partition by semester order by hours_left desc) from programme; -- sound does-not-parse, unknown-name
select e.id from exposure e cross join lateral (select b.id from block b where b.id = e.block_id) x; -- sound does-not-parse, unknown-name
select code from programme where title ~ '^R.*s$' and semester similar to '20(26|27)[AB]'; -- sound does-not-parse, unknown-name
insert into budget (code, hours) values ('B-9', 4.5) on conflict (code) do update set hours = excluded.hours; -- sound does-not-parse, unknown-name, key-assigned
merge into budget as b using (values ('B-1', 3)) as n (code, hours) on b.code = n.code when matched then update set hours = n.hours; -- sound does-not-parse, unknown-name

update budget set hours = hours + 1 where code = 'B-1'; -- sound every-row, not-one-row, key-assigned
update budget set hours = 0 where hours < 1; -- sound every-row, key-assigned
delete from budget where code = 'B-1'; -- sound every-row, not-one-row
delete from exposure where taken_at < now() - interval '1 year'; -- sound every-row
update observer set active = false where role = 'assistant' and active; -- sound every-row, key-assigned
delete from block where id in (select block_id from exposure where quality = 0); -- sound every-row
update block set state = 'done' from programme p where p.id = block.programme_id and p.code = 'P-107'; -- sound every-row, key-assigned
delete from block using programme p where p.id = block.programme_id and p.semester = '2026A'; -- sound every-row
delete from budget b where not exists (select 1 from programme p where p.code = b.code); -- sound every-row

update observer set email = 'a@harrowfell.example' where badge_no = 'B-001'; -- sound not-one-row, key-assigned
update block set slot = 2 where id = 17; -- sound not-one-row, key-assigned
delete from observer where id = 4; -- sound not-one-row
select name from telescope where code = 'HF1'; -- sound not-one-row
update block set state = 'done' where telescope_code = 'HF1' and night = date '2026-02-03' and slot = 1; -- sound not-one-row, key-assigned
select title from programme where id = 7 limit 1; -- sound not-one-row

select code from programme where contact_email is null; -- sound null-comparison
select code from programme where contact_email is not null; -- sound null-comparison
select id from block where assigned_to is distinct from 4; -- sound null-comparison
select id from block where assigned_to is not distinct from null; -- sound null-comparison
select id from observer where id not in (select lead_id from programme); -- sound null-comparison
select id from observer o where not exists (select 1 from block b where b.assigned_to = o.id); -- sound null-comparison
select id from observer where id not in (select assigned_to from block where assigned_to is not null); -- sound null-comparison
update block set assigned_to = null where id = 3; -- sound null-comparison, not-one-row
select coalesce(email, 'none') = 'none' from observer; -- sound null-comparison

insert into observer (badge_no, name, role, active) values ('B-90', 'Ada', 'observer', true); -- sound key-assigned
insert into telescope (code, name) values ('HF8', 'Eight'); -- sound key-assigned

select name from observer where id = '7'; -- sound type-mismatch
select id from block where night = '2026-02-03'; -- sound type-mismatch
select id from exposure where taken_at >= '2026-02-03' and taken_at < '2026-02-04'; -- sound type-mismatch
select code from programme where hours_left > 3.5; -- sound type-mismatch
select id from exposure where id = 7::bigint; -- sound type-mismatch
select night::text from block where id = 3; -- sound type-mismatch
select id from observer where active = true; -- sound type-mismatch
select code from budget where hours = 4; -- sound type-mismatch
select id from block where telescope_code = 'HF' || 1; -- sound type-mismatch

select id from observer where id::text = '7'; -- finds type-mismatch
select id from exposure where taken_at::date = '2026-02-03'; -- finds type-mismatch
select code from programme where id::varchar = '7'; -- finds type-mismatch
select id from block where cast(night as text) = '2026-02-03'; -- finds type-mismatch

begin;
set local lock_timeout = '2s';
select code from budget where code = 'B-1' for update; -- sound unbounded-wait
lock table budget in share mode; -- sound unbounded-wait
commit;
begin;
select code from budget where code = 'B-1' for update nowait; -- sound unbounded-wait
select code from budget where code = 'B-2' for update skip locked; -- sound unbounded-wait
lock table budget in share mode nowait; -- sound unbounded-wait
commit;
select pg_try_advisory_lock(7); -- sound unbounded-wait
explain update budget set hours = 0; -- sound every-row
explain (analyze off) delete from budget; -- sound every-row
with gone as (delete from budget where code = 'B-1' returning code) select count(*) from gone; -- sound every-row
