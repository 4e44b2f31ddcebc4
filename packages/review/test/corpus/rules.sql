-- More of what is kept in files: each rule, bad and good.

update telescope set aperture_m = 1; -- finds every-row
delete from budget; -- finds every-row
update block set state = 'done' where true; -- finds every-row
delete from budget where 1 = 1 or hours > 2; -- finds every-row
update programme set priority = 2 where code is not null or 1 = 1; -- finds every-row
delete from telescope where code = 'HF1';
update block set state = 'done' where telescope_code = 'HF1' and night = '2026-02-03' and slot = 4;
delete from budget where code = 'B-3';
update telescope set name = 'Harrow' where code = 'HF1';
delete from exposure where id in (select id from exposure where quality = 0);

update programme set priority = 1 where title = 'Dust'; -- finds not-one-row
delete from observer where name = 'Okafor'; -- finds not-one-row
update telescope set aperture_m = 2 where name = 'Harrow One'; -- finds not-one-row
update block set slot = 3 where state = 'planned' and night = '2026-02-03'; -- finds not-one-row
delete from exposure where block_id = 5 and quality = 2; -- finds not-one-row
update observer set active = false where badge_no = 'B-002';
update programme set priority = 1 where id = 7;
delete from block where telescope_code = 'HF1' and night = '2026-02-03' and slot = 1;
update exposure set quality = 4 where id = 9;
delete from telescope where code = 'HF7';

select code from programme where lead_id = null; -- finds null-comparison
select id from block where assigned_to <> null; -- finds null-comparison
select id from block where assigned_to != null; -- finds null-comparison
update block set slot = 1 where id = 3 and assigned_to = null; -- finds null-comparison
select code from programme where id not in (select programme_id from block where id = null); -- finds null-comparison
select id from block where assigned_to not in (select assigned_to from block); -- finds null-comparison
select id from block where assigned_to is null;
select id from block where assigned_to is not null and slot = 2;
select id from block where assigned_to is distinct from 3;
select id from block where id not in (select block_id from exposure);
select id from block where not exists (select from exposure e where e.block_id = block.id);
select id from block where coalesce(assigned_to, 0) = 0;

select code from programmes; -- finds unknown-name
select colour from telescope; -- finds unknown-name
update telescope set apperture_m = 2 where code = 'HF1'; -- finds unknown-name
delete from blok where id = 1; -- finds unknown-name
insert into observer (badge, name) values ('B-9', 'Ada'); -- finds unknown-name
select p.titel from programme p where p.code = 'P-107'; -- finds unknown-name
select p.title, t.aperture_m from programme p cross join telescope t;
select count(*), max(hours_left) from programme group by semester;
with best as (select code, hours_left from programme) select b.code from best b where b.hours_left > 3;
select t.code as name from telescope t order by name;

update programme set id = 9 where code = 'P-107'; -- finds key-assigned
update exposure set id = 4 where id = 3; -- finds key-assigned
insert into block (id, night) values (1, '2026-02-03'); -- finds key-assigned
update telescope set code = 'HF9' where code = 'HF1'; -- finds key-assigned

select code from programme where; -- finds does-not-parse
update set title = 'x'; -- finds does-not-parse
delete programme where code = 'P-107'; -- finds does-not-parse
select code, from programme; -- finds does-not-parse
insert into telescope values ('HF9', 'Nine' where true; -- finds does-not-parse
explain analyze update budget set hours = 0; -- finds every-row
explain (analyze, buffers) delete from budget where true; -- finds every-row
prepare emptied as delete from budget; -- finds every-row
with gone as (delete from budget returning code) select count(*) from gone; -- finds every-row
explain update budget set huors = 0 where code = 'B-1'; -- finds unknown-name
