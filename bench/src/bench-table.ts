import pg from 'pg'
import { mappingDefinition, type MappingDefinition } from '@ledgerman/contract'

/** How many records the callers change. */
export const ROWS = 2_000

/** A table without triggers, as a hand-written program would use it. */
export async function makeBenchTable(url: string): Promise<void> {
  const client = new pg.Client({ connectionString: url })
  await client.connect()
  await client.query(`
    create table allocation (
      id integer primary key, code text not null unique, title text not null, hours numeric(8,2) not null check (hours >= 0),
      priority smallint not null, note text, row_version integer not null default 1);
    insert into allocation (id, code, title, hours, priority)
      select n, 'A-' || n, 'Allocation number ' || n, 1 + n % 400, 1 + n % 5 from generate_series(1, ${ROWS}) n;
    create table sighting (id integer primary key, taken integer not null, band text not null, note text);
    insert into sighting select n, (n * 7919::bigint) % 100000, 'b' || n % 7, null from generate_series(1, 1000000) n;
    create index on sighting (taken, id);
    create schema audit;
    create table audit.entry (id uuid primary key, at timestamptz not null default now(), actor text not null, statement bigint not null,
      binds text[], key text[], matched integer, changed integer, before jsonb, after jsonb);
    create index on audit.entry (key);
    analyze`)
  await client.end()
}

export const allocation: MappingDefinition = mappingDefinition.parse({
  mapping: 'allocation',
  table: 'public.allocation',
  key: ['id'],
  guard: { by: 'version', property: 'rowVersion' },
  properties: Object.fromEntries(
    ['id', 'code', 'title', 'hours', 'priority', 'note']
      .map((name) => [name, { column: name }])
      .concat([['rowVersion', { column: 'row_version' }]]),
  ),
})

/** A million rows to be paged through. */
export const sightings: MappingDefinition = mappingDefinition.parse({
  mapping: 'sighting',
  table: 'public.sighting',
  key: ['id'],
  guard: { by: 'none' },
  properties: Object.fromEntries(['id', 'taken', 'band', 'note'].map((name) => [name, { column: name }])),
})

/** Each caller has rows of its own and knows their versions, so that every change is a hit. */
export class Hand {
  readonly #versions: Map<number, number>
  readonly #turns: number[]

  /** @param before who changed the same rows, and knows their versions */
  constructor(
    readonly callers: number,
    before?: Hand,
  ) {
    this.#versions = before ? before.#versions : new Map()
    this.#turns = Array.from({ length: callers }, () => 0)
  }

  next(caller: number): number {
    const turn = (this.#turns[caller] = (this.#turns[caller] ?? 0) + 1)
    return 1 + caller + this.callers * (turn % Math.floor(ROWS / this.callers - 1))
  }

  version(id: number): number {
    return this.#versions.get(id) ?? 1
  }

  changed(id: number): void {
    this.#versions.set(id, this.version(id) + 1)
  }
}
