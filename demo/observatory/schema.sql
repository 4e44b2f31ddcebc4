-- Harrow Fell Observatory: made up, and the only sample data there is.

create type telescope_status as enum ('operational', 'maintenance', 'retired');
create type block_state as enum ('planned', 'observing', 'done', 'failed');

create table telescope (
  code        text primary key,
  name        text not null,
  aperture_m  numeric(5,2) not null check (aperture_m > 0),
  status      telescope_status not null default 'operational',
  row_version integer not null default 1
);

create table observer (
  id          integer generated always as identity primary key,
  badge_no    text not null unique,
  given_name  text not null,
  family_name text not null,
  email       text not null unique,
  active      boolean not null default true,
  joined_on   date not null,
  row_version integer not null default 1
);

create table programme (
  id            integer generated always as identity primary key,
  code          text not null unique,
  title         text not null,
  semester      text not null check (semester ~ '^\d{4}[AB]$'),
  lead_id       integer not null references observer (id),
  hours_granted numeric(6,2) not null check (hours_granted between 1 and 400),
  hours_left    numeric(6,2) not null,
  priority      smallint not null default 3 check (priority between 1 and 5),
  contact_email text,
  tags          text[] not null default '{}',
  settings      jsonb not null default '{}',
  row_version   integer not null default 1,
  updated_at    timestamptz not null default now(),
  constraint programme_hours_left_check check (hours_left >= 0 and hours_left <= hours_granted)
);

create index programme_lead on programme (lead_id);

create function set_updated_at() returns trigger language plpgsql as
$$ begin new.updated_at := now(); return new; end $$;

create trigger programme_updated_at before update on programme
  for each row execute function set_updated_at();

create table block (
  id           integer generated always as identity primary key,
  programme_id integer not null references programme (id),
  telescope    text not null references telescope (code),
  target_name  text not null,
  ra_deg       double precision not null check (ra_deg >= 0 and ra_deg < 360),
  dec_deg      double precision not null check (dec_deg between -90 and 90),
  exposure_s   integer not null check (exposure_s between 1 and 7200),
  night        date not null,
  slot         smallint not null check (slot between 1 and 12),
  state        block_state not null default 'planned',
  assigned_to  integer references observer (id),
  row_version  integer not null default 1,
  -- Deferrable, so that two blocks can swap their slots within one transaction.
  constraint block_slot_unique unique (telescope, night, slot) deferrable initially immediate
);

create index block_programme on block (programme_id);

create table exposure (
  id         bigint generated always as identity primary key,
  block_id   integer not null references block (id),
  seq        integer not null,
  taken_at   timestamptz not null,
  seconds    numeric(7,2) not null check (seconds > 0),
  filter     text not null,
  seeing     real,
  accepted   boolean not null default true,
  unique (block_id, seq)
);

create table hours_transfer (
  id        bigint generated always as identity primary key,
  from_code text not null references programme (code),
  to_code   text not null references programme (code),
  hours     numeric(6,2) not null check (hours > 0),
  made_at   timestamptz not null default now(),
  check (from_code <> to_code)
);

create table calibration (
  telescope  text not null references telescope (code),
  night      date not null,
  kind       text not null,
  frames     integer not null check (frames >= 0),
  offset_arcsec numeric(8,4) not null default 0,
  note       text,
  primary key (telescope, night, kind)
);

-- What the weather station sends: no key at all.
create table sky_feed (
  read_at    timestamptz not null,
  humidity   real,
  wind_mps   real,
  cloud      text
);
