import { ROWS_OF_BLOCK_SQL } from '../statement/image-block-sql.js'
import { movedInStepsSql, movedSql } from './moved-keys.js'

/** The SQLSTATE with which a statement refuses by itself. Class LM is nobody else's. */
export const REFUSED_BY_BOOK = 'LM001'

/** Counted up with every change to the tables below. */
export const BOOK_VERSION = 8

/** Everything that was written, a line a row. */
const HISTORY_VIEW = `create view ledgerman.history as
select e.at, e.actor, e.outcome, s.kind, s.mapping, s.relation, jsonb_object(s.key_columns, e.key) as key,
  jsonb_object(s.touched, e.before) as before, jsonb_object(s.touched, e.after) as after, e.problem, e.note, e.id
from ledgerman.entry e left join ledgerman.statement s on s.id = e.statement where e.run is null
union all
select e.at, e.actor, e.outcome, s.kind, s.mapping, s.relation, jsonb_object(s.key_columns, i.key),
  jsonb_object(s.touched, i.before), jsonb_object(s.touched, i.after), e.problem, e.note, e.id
from ledgerman.entry e join ledgerman.image i on i.entry = e.id join ledgerman.step p on p.entry = i.entry and p.no = i.step
  join ledgerman.statement s on s.id = p.statement where e.run is not null
union all
select e.at, e.actor, e.outcome, s.kind, s.mapping, s.relation,
  jsonb_object(s.key_columns, r.key), jsonb_object(s.touched, r.before), jsonb_object(s.touched, r.after), e.problem, e.note, e.id
from ledgerman.entry e join ledgerman.step p on p.entry = e.id join ledgerman.statement s on s.id = p.statement
  join ledgerman.image_block b on b.entry = p.entry and b.step = p.no cross join lateral ${ROWS_OF_BLOCK_SQL} as r where e.run is not null`

/**
 * What brings a book of the version before up to the next, by the version it then has. Run as one transaction. The view of all, which
 * reads every table, is made by the last.
 */
export const BOOK_UPGRADES: Readonly<Record<number, readonly string[]>> = {
  2: [
    'alter table ledgerman.entry add run jsonb, add request_key text, add request_digest text',
    'table ledgerman.image',
    'indexes ledgerman.image_entry, image_record',
    'index ledgerman.entry_request',
    // In version 2 the steps were a table; what has none yet needs none.
    `create table ledgerman.step (entry uuid, no integer, name text, statement bigint, binds text[], expected text,
  matched bigint, changed bigint, skipped boolean, duration_ms real)`,
    'drop view ledgerman.history',
  ],
  3: [
    'alter table ledgerman.entry add steps json',
    `update ledgerman.entry e set steps = (select json_agg(to_jsonb(p) - 'entry' order by p.no) from ledgerman.step p where p.entry = e.id)
  where e.run is not null`,
    'drop view if exists ledgerman.history',
    'drop table ledgerman.step',
    'view ledgerman.step',
  ],
  4: [
    'table ledgerman.image_block',
    'compression of ledgerman.image_block',
    'indexes ledgerman.image_block_entry, image_block_record',
    'index ledgerman.entry_reverses',
    'drop view if exists ledgerman.history',
    'view ledgerman.history',
  ],
  5: ['table ledgerman.leaf', 'table ledgerman.seal', 'index ledgerman.seal_open'],
  6: ['alter table ledgerman.statement add short jsonb'],
  // Whoever may read it still may.
  7: [HISTORY_VIEW.replace('create view', 'create or replace view')],
  8: ['indexes ledgerman.entry_moved, entry_moved_in_steps'],
}

/**
 * All that `book prepare` creates in a target, and nothing else. Run as one transaction.
 *
 * A keyed change is one row of `entry`, since every further row and index is paid for by the caller. There are no foreign
 * keys inside the book for the same reason: Ledgerman is its only writer.
 */
export const BOOK_DDL: readonly { name: string; sql: string }[] = [
  { name: 'schema ledgerman', sql: 'create schema ledgerman' },
  {
    name: 'table ledgerman.book',
    sql: `create table ledgerman.book (version integer not null, prepared_at timestamptz not null default now(), prepared_by text not null default current_user)`,
  },
  {
    name: 'table ledgerman.statement',
    sql: `create table ledgerman.statement (
  id bigint primary key,
  kind text not null,
  mapping text not null,
  revision integer not null,
  relation text not null,
  key_columns text[] not null,
  touched text[] not null,
  text text not null,
  binds jsonb not null,
  short jsonb
)`,
  },
  {
    name: 'table ledgerman.entry',
    sql: `create table ledgerman.entry (
  id uuid primary key,
  at timestamptz not null default now(),
  actor text not null,
  outcome text not null,
  statement bigint,
  binds text[],
  note text,
  record bigint,
  key text[],
  matched integer,
  changed integer,
  before text[],
  after text[],
  problem text,
  detail text,
  run jsonb,
  steps json,
  request_key text,
  request_digest text
)`,
  },
  {
    name: 'table ledgerman.image',
    sql: `create table ledgerman.image (
  entry uuid not null,
  step integer not null,
  record bigint,
  key text[],
  before text[],
  after text[]
)`,
  },
  {
    name: 'indexes ledgerman.image_entry, image_record',
    sql: `create index image_entry on ledgerman.image (entry, step); create index image_record on ledgerman.image (record) where record is not null`,
  },
  {
    name: 'table ledgerman.image_block',
    sql: `create table ledgerman.image_block (
  entry uuid not null,
  step integer not null,
  bits smallint not null,
  prefix bigint not null,
  rows integer not null,
  key text[],
  before text[],
  after text[]
)`,
  },
  {
    // Several times as fast as PostgreSQL's own, where the server has it.
    name: 'compression of ledgerman.image_block',
    sql: `do $$ begin
  execute 'alter table ledgerman.image_block alter key set compression lz4, alter before set compression lz4, alter after set compression lz4';
exception when others then null; end $$`,
  },
  {
    name: 'indexes ledgerman.image_block_entry, image_block_record',
    sql: `create index image_block_entry on ledgerman.image_block (entry, step); create index image_block_record on ledgerman.image_block (prefix, bits) where key is not null`,
  },
  {
    name: 'index ledgerman.entry_reverses',
    sql: `create index entry_reverses on ledgerman.entry using gin ((run->'reverses')) where run ? 'reverses'`,
  },
  {
    name: 'index ledgerman.entry_request',
    sql: 'create unique index entry_request on ledgerman.entry (actor, request_key) where request_key is not null',
  },
  {
    name: 'index ledgerman.entry_record',
    sql: 'create index entry_record on ledgerman.entry (record) where record is not null',
  },
  {
    name: 'indexes ledgerman.entry_moved, entry_moved_in_steps',
    sql: `create index entry_moved on ledgerman.entry (statement) where ${movedSql('entry')};
create index entry_moved_in_steps on ledgerman.entry (id) where ${movedInStepsSql('entry')}`,
  },
  {
    name: 'table ledgerman.leaf',
    sql: `create table ledgerman.leaf (no bigint not null, entry uuid primary key, hash bytea not null);
create index leaf_no on ledgerman.leaf (no);
comment on table ledgerman.leaf is 'The place of each entry in the book as it is sealed, and the hash of what it held then (RFC 9162).'`,
  },
  {
    name: 'table ledgerman.seal',
    sql: `create table ledgerman.seal (
  entries bigint primary key,
  root bytea not null,
  at timestamptz not null,
  key text not null,
  signature text not null,
  peaks bytea[] not null,
  open_since timestamptz not null,
  next_transaction bigint not null
);
comment on table ledgerman.seal is 'Signed heads over the first entries; peaks are the full subtrees that the next one goes on from.'`,
  },
  {
    name: 'index ledgerman.seal_open',
    sql: 'create index seal_open on ledgerman.seal (open_since, entries)',
  },
  {
    name: 'view ledgerman.step',
    sql: `create view ledgerman.step as
select e.id as entry, s.no, s.name, s.statement, case when s.skipped then '{}' else s.binds end as binds, s.expected, s.matched, s.changed,
  s.skipped, s.duration_ms from ledgerman.entry e cross join lateral json_to_recordset(e.steps)
  as s(no integer, name text, statement bigint, binds text[], expected text, matched bigint, changed bigint, skipped boolean, duration_ms real)`,
  },
  {
    name: 'view ledgerman.history',
    sql: HISTORY_VIEW,
  },
  {
    name: 'function ledgerman.refuse(text)',
    sql: `create function ledgerman.refuse(code text) returns boolean language plpgsql as
$$ begin raise exception using errcode = '${REFUSED_BY_BOOK}', message = code; end $$`,
  },
  {
    name: 'comments',
    sql: `comment on schema ledgerman is 'The book: what was changed through Ledgerman, written with each change.';
comment on table ledgerman.statement is 'Each statement that was run, once: its text, and what its binds are called.';
comment on table ledgerman.entry is 'One run each: who, when, with which binds, and the images of the record before and after.';
comment on column ledgerman.entry.run is 'Where several steps were run: transaction, revision, isolation, attempts, duration. Its images stand in a table of their own.';
comment on column ledgerman.entry.steps is 'What each step was, matched and changed, as the view step shows them.';
comment on table ledgerman.image_block is 'Images of many rows together: each array has a line for each column, and a place for each row.';
comment on column ledgerman.image_block.prefix is 'The first bits of the hash of each key in the block: what a record is found by.';
comment on column ledgerman.entry.before is 'Columns that the change touched, by name, in text form; digests where sensitive.'`,
  },
]
