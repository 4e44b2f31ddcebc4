import { getEntry, prepareBook, readTargetState, Target } from '@ledgerman/core'
import { codeOf } from '../../../../testing/own-tables.js'
import { makeDatabase, type TestDatabase } from '../../../../testing/databases.js'

// The book as versions 1 and 2 prepared it, as far as an upgrade touches it.
const VERSION_1 = `set role ledgerman_worker; create schema ledgerman; create table ledgerman.book (version integer not null, prepared_at timestamptz not null default now(), prepared_by text not null default current_user);
  create table ledgerman.statement (id bigint primary key, kind text not null, mapping text not null, revision integer not null, relation text not null,
    key_columns text[] not null, touched text[] not null, text text not null, binds jsonb not null);
  create table ledgerman.entry (id uuid primary key, at timestamptz not null default now(), actor text not null, outcome text not null, statement bigint,
    binds text[], note text, record bigint, key text[], matched integer, changed integer, before text[], after text[], problem text, detail text);
  create view ledgerman.history as select id from ledgerman.entry;
  create function ledgerman.refuse(code text) returns boolean language plpgsql as $$ begin raise exception using errcode = 'LM001', message = code; end $$;
  insert into ledgerman.book values (1)`
const VERSION_2 = `set role ledgerman_worker; alter table ledgerman.entry add run jsonb, add request_key text, add request_digest text;
  create table ledgerman.step (entry uuid not null, no integer not null, name text, statement bigint, binds text[], expected text, matched bigint, changed bigint,
    skipped boolean not null, duration_ms real, primary key (entry, no));
  create table ledgerman.image (entry uuid not null, step integer not null, record bigint, key text[], before text[], after text[]);
  insert into ledgerman.statement values (9007199254740993, 'change', '', 0, 'public.account', '{code}', '{amount}', 'update …', '[{"name": ":n", "type": "text"}]');
  insert into ledgerman.entry (id, actor, outcome, matched, changed, run) values ('00000000-0000-7000-8000-000000000001', 'ada', 'committed', 1, 1,
    '{"transaction": "move", "revision": 1, "isolation": "read committed", "attempts": 1, "durationMs": 2, "startedAt": "2026-01-01T00:00:00Z", "reversible": "yes"}');
  insert into ledgerman.step values ('00000000-0000-7000-8000-000000000001', 2, null, null, null, 'any', null, null, true, 0),
    ('00000000-0000-7000-8000-000000000001', 1, 'moved', 9007199254740993, array['a"b'], 'one', 1, 1, false, 1.5);
  insert into ledgerman.image values ('00000000-0000-7000-8000-000000000001', 1, null, '{A1}', '{1}', '{2}');
  insert into ledgerman.book values (2)`

let database: TestDatabase
beforeEach(async () => {
  database = await makeDatabase()
})
afterEach(() => database.drop())

it.each([
  [1, [VERSION_1]],
  [2, [VERSION_1, VERSION_2]],
])(
  'a book of version %d is not written to until it is brought up to date, and keeps its entries',
  async (version, made) => {
    for (const sql of made) await database.sql(sql)
    const target = new Target({ name: 'old', url: database.url, digestKey: Buffer.from('k') })
    try {
      expect(await target.isBookPrepared()).toBe(false)
      expect((await readTargetState(target)).book).toBe('not prepared')
      const { prepared, created } = await prepareBook(target)
      expect([prepared, created]).toEqual([
        'already',
        expect.arrayContaining([
          'view ledgerman.step',
          'view ledgerman.history',
          'indexes ledgerman.entry_moved, entry_moved_in_steps',
        ]),
      ])
      expect(await target.isBookPrepared()).toBe(true)
      expect((await prepareBook(target)).created).toEqual([])
      if (version < 2) return
      const { receipt } = await getEntry(target, '00000000-0000-7000-8000-000000000001', () =>
        Promise.resolve(undefined),
      )
      expect(receipt.steps).toMatchObject([
        {
          no: 1,
          as: 'moved',
          binds: [{ value: 'a"b' }],
          matched: 1,
          changed: 1,
          durationMs: 1.5,
          rows: [{ before: { amount: '1' }, after: { amount: '2' } }],
        },
        { no: 2, skipped: true, matched: null, binds: [] },
      ])
      expect(await database.sql('select kind, key from ledgerman.history')).toEqual([
        { kind: 'change', key: { code: 'A1' } },
      ])
      expect(await codeOf(target.query('select * from ledgerman.step'))).toBe('done')
    } finally {
      await target.close()
    }
  },
)
