-- What the role that Ledgerman works with needs, and nothing more: it owns no table and is no superuser.
grant usage on schema public to ledgerman_observatory;
grant select, insert, update, delete on all tables in schema public to ledgerman_observatory;
-- For the book: it creates the schema ledgerman, once, when asked to.
grant create on database observatory to ledgerman_observatory;
