import { changeRecord, loadRecord, parseKeyParts, readHistory } from '@ledgerman/core'
import { openOwnTables, type OwnTables } from '../../../../testing/own-tables.js'

// What a trigger makes of a row stands in the answer and in the book, wherever the trigger is: else it would be told as somebody else's doing.
let own: OwnTables
const commit = { mode: 'commit', actor: 'night-desk' } as const
const TRIGGER = (table: string, when = 'before update') => `
  create function ${table}_seen() returns trigger language plpgsql as $f$ begin new.seen := coalesce(new.seen, 0) + 1; return new; end $f$;
  create trigger seen ${when} on ${table} for each row execute function ${table}_seen();`

beforeAll(async () => {
  own = await openOwnTables()
})
afterAll(() => own.close())

/** Where the trigger is, the relation that is mapped, the one that its row stands in, how they are made. */
const tables = [
  [
    'of a partition',
    'parts',
    'parts',
    `create table parts (id integer primary key, word text, seen integer) partition by range (id);
    create table part_one partition of parts for values from (1) to (10); ${TRIGGER('part_one')}`,
  ],
  [
    'of a table that inherits',
    'forebear',
    'heir',
    `create table forebear (id integer primary key, word text, seen integer); create table heir (primary key (id)) inherits (forebear); ${TRIGGER('heir')}`,
  ],
  [
    'that writes in the place of a change of a view',
    'above',
    'under',
    `create table under (id integer primary key, word text, seen numeric); create view above as select id, word, seen / 2 as seen from under;
    create function in_view() returns trigger language plpgsql as $f$
      begin update under set word = new.word || '.', seen = coalesce(seen, 0) + 1 where id = old.id; return new; end $f$;
    create trigger in_view instead of update on above for each row execute function in_view();`,
  ],
  [
    'behind the table of a view',
    'plain_view',
    'base',
    `create table base (id integer primary key, word text, seen integer); create view plain_view as select * from base;
    create function again() returns trigger language plpgsql as $f$
      begin if new.seen is null then update base set seen = 1 where id = new.id; end if; return null; end $f$;
    create trigger again after update on base for each row execute function again();`,
  ],
] as const

it.each(tables)('what a trigger makes of a row %s is known', async (_, relation, stored, ddl) => {
  const isView = ddl.includes('create view')
  const difference = isView ? { key: ['id'], guard: { by: 'values' as const } } : {}
  const mapping = await own.mapped(`public.${relation}`, ddl, difference)
  await own.database.sql(`insert into ${stored} values (1, 'a')`)
  const key = parseKeyParts(mapping, ['1'])
  const { guard } = await loadRecord(own.target, mapping, key)
  const request = { key, values: { word: 'b' }, guard: { guards: [guard ?? ''] } }
  const changed = await changeRecord(own.target, mapping, { ...request, ...commit })
  const now = await loadRecord(own.target, mapping, key)
  expect([changed.record, changed.guard]).toEqual([now.record, now.guard])
  const { history } = await readHistory(own.target, mapping, key, { limit: 10 })
  expect(history.map(({ kind, changes }) => [kind, ...changes.map(({ property }) => property)])).toEqual([
    ['changed', 'word', 'seen'],
  ])
})
