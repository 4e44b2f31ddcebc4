-- A correction of the night.
select code from budget where code = 'B-1' for update; -- finds unbounded-wait
lock table budget in exclusive mode; -- finds unbounded-wait

begin;
update budget set hours = 1 where code = 'B-1';
commit;

begin;
savepoint before;
delete from budget where code = 'B-2';
rollback to savepoint before;
update budget set hours = 2 where code = 'B-3';
rollback;

start transaction;
update budget set hours = 3 where code = 'B-4'; -- finds never-committed
update budget set hours = 4 where code = 'B-5';

/* A comment may hold another: /* delete from exposure; */ delete from exposure; */
delete from exposure where 1 = 1; -- finds every-row

/* The end. /* Of it. */ */
