/**
 * What the home database holds, as steps: each runs once, in order, and none is ever edited afterwards. All of it lives in
 * the schema `ledgerman_home`.
 */
export const HOME_STEPS: readonly string[] = [
  `create table ledgerman_home.token (
     id uuid primary key default gen_random_uuid(),
     name text not null,
     role text not null,
     targets text[],
     hash bytea not null unique,
     created_at timestamptz not null default now(),
     last_used_at timestamptz,
     revoked_at timestamptz
   );
   create unique index token_name on ledgerman_home.token (name) where revoked_at is null;
   create table ledgerman_home.session (
     hash bytea primary key,
     token_id uuid not null references ledgerman_home.token (id),
     expires_at timestamptz not null
   );
   create table ledgerman_home.definition (
     target text not null,
     kind text not null check (kind in ('mapping', 'transaction')),
     name text not null,
     revision integer not null,
     content json,
     source text,
     published_at timestamptz not null default now(),
     published_by text not null,
     primary key (target, kind, name, revision)
   );
   comment on column ledgerman_home.definition.content is 'In the order it was written. Null where this revision removed the definition.';
   create table ledgerman_home.setting (name text primary key, value text not null)`,
  `create table ledgerman_home.rehearsal (
     token_hash bytea primary key,
     target text not null,
     actor text not null,
     subject text not null,
     evidence jsonb not null,
     expires_at timestamptz not null
   );
   create index rehearsal_expires_at on ledgerman_home.rehearsal (expires_at);`,
  `create table ledgerman_home.ended_session (
     target text not null,
     at timestamptz not null default now(),
     actor text not null,
     did text not null check (did in ('cancel', 'end')),
     pid integer not null,
     started_at timestamptz not null,
     application text,
     "user" text
   );
   create index ended_session_at on ledgerman_home.ended_session (target, at);`,
  // Names that are taken already stay as they are: only new ones have to differ in more than letter case.
  `drop index ledgerman_home.token_name;
   create index token_name on ledgerman_home.token (lower(name)) where revoked_at is null;`,
  `create table ledgerman_home.job (
     id uuid primary key,
     target text not null,
     mapping text not null,
     revision integer not null,
     kind text not null,
     mode text not null,
     state text not null,
     actor text not null,
     note text,
     condition text,
     request json not null,
     rows bigint,
     created_at timestamptz not null default now(),
     started_at timestamptz,
     ended_at timestamptz,
     not_before timestamptz,
     failures integer not null default 0,
     instance uuid,
     lease_until timestamptz,
     cancel_asked boolean not null default false,
     chunks_done integer not null default 0,
     progress json,
     report json,
     entries text[] not null default '{}',
     rehearsal text,
     problem json,
     request_key text,
     request_digest text
   );
   create unique index job_request on ledgerman_home.job (actor, request_key) where request_key is not null;
   create index job_open on ledgerman_home.job (created_at) where state in ('queued', 'running');
   create table ledgerman_home.job_part (
     job uuid not null,
     no integer not null,
     rows integer not null,
     data bytea not null,
     received_at timestamptz not null default now(),
     primary key (job, no)
   );
   create table ledgerman_home.job_failed_row (
     job uuid not null,
     chunk integer not null,
     line bigint,
     key json not null,
     reason text not null,
     code text not null
   );
   create index job_failed_row_job on ledgerman_home.job_failed_row (job, line);`,
  `alter table ledgerman_home.token add only_names text[]`,
  // Rows of a file are written once and read once: compressing them takes longer than writing them.
  `alter table ledgerman_home.job_part alter data set storage external`,
  // Whether it may have committed more than is known here: its commit was not answered, or its runner was not heard of any more.
  `alter table ledgerman_home.job add in_doubt boolean not null default false`,
]
