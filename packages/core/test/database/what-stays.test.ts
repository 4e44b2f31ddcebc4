import { addRecord, changeRecord, parseKeyParts, removeRecord, reverseEntries, type Mapping } from '@ledgerman/core'
import { openOwnTables, type OwnTables } from '../../../../testing/own-tables.js'

// Whether an entry can be put back is true of what triggers, foreign keys, rules and views did beside it.
let own: OwnTables
const commit = { mode: 'commit', actor: 'night-desk' } as const

beforeAll(async () => {
  own = await openOwnTables()
  await own.database.sql(`
    create table noted (id bigint generated always as identity primary key, word text);
    create function note_it(word text) returns text language plpgsql as $$ begin insert into public.noted (word) values (word); return word; end $$;
    create function plain() returns text language sql immutable as $$ select 'x' $$;
    grant execute on all functions in schema public to ledgerman_worker`)
})
afterAll(() => own.close())

let made = 0
const trigger = (body: string, when = 'before insert or update or delete', each = 'row', language = 'plpgsql') => {
  const name = `does_${++made}`
  return `create function ${name}() returns trigger language ${language} as $f$ begin ${body} return coalesce(new, old); end $f$;
    create trigger ${name} ${when} on TABLE for each ${each} execute function ${name}()`
}

/** Adds, changes and removes a record, and reverses each: what the receipts and the reversals say. */
async function done(table: string, ddl: string, difference = {}) {
  const mapping: Mapping = await own.mapped(`public.${table}`, ddl, difference)
  const key = parseKeyParts(mapping, ['1'])
  const reversed = async (id: string) => {
    const { receipt } = await reverseEntries(own.target, [id], () => Promise.resolve(mapping), {
      ...commit,
      note: null,
      onlyUnchanged: false,
      timeLimitMs: 5_000,
      signal: new AbortController().signal,
    })
    return receipt.notShown ?? []
  }
  const added = await addRecord(own.target, mapping, { values: { id: 1, word: 'a' }, ...commit })
  const unsaid = [await reversed(added.receipt.id)]
  await addRecord(own.target, mapping, { values: { id: 1, word: 'a' }, ...commit })
  const changed = await changeRecord(own.target, mapping, { key, values: { word: 'b' }, guard: 'any', ...commit })
  unsaid.push(await reversed(changed.receipt.id))
  const removed = await removeRecord(own.target, mapping, { key, guard: 'any', ...commit })
  unsaid.push(await reversed(removed.receipt.id))
  return {
    reversible: [added, changed, removed].map(({ receipt }) => receipt.reversible).join(' '),
    unsaid: unsaid.map((words) => words.join('; ').replace(/does_\d+/g, 'does')),
  }
}

const NOTHING = { reversible: 'yes yes yes', unsaid: ['', '', ''] }
const ALL = (table: string, by = 'trigger does') => ({
  reversible: 'partly partly partly',
  unsaid: Array.from({ length: 3 }, () => `Not put back: ${table}: what the ${by} may have written elsewhere.`),
})

describe('an entry', () => {
  const plain = 'create table TABLE (id integer primary key, word text);'
  const harmless = {
    'sets its own row': 'new.word := upper(new.word) || plain();',
    'has commands only in comments and texts': `-- insert into noted
      /* update noted * ** set word = ''; */ if tg_op = 'UPDATE' then raise notice 'delete '' it'; end if;`,
    'locks a row elsewhere':
      "perform 1 from noted where word = 'x' for update; perform 1 from noted for no key update;",
    notifies: "perform pg_notify('noted', 'x');",
  }
  it.each(Object.entries(harmless))('can be put back whole where a trigger %s', async (_, body) => {
    const table = `harmless${++made}`
    const guarded = body.includes('new.') ? `if tg_op <> 'DELETE' then ${body} end if;` : body
    expect(await done(table, (plain + trigger(guarded)).replaceAll('TABLE', table))).toEqual(NOTHING)
  })

  const writing = {
    'adds a row elsewhere': trigger("insert into public.noted (word) values ('x');"),
    'changes rows elsewhere': trigger("update public.noted set word = 'x' where id = -1;"),
    'calls a function that writes': trigger("perform public.note_it('x');"),
    'calls it by a quoted name': trigger(`perform public."note_it"('x');`),
    'executes a text': trigger("execute 'insert into public.noted (word) values (1)';"),
    'fires afterwards': trigger("insert into public.noted (word) values ('x');", 'after insert or update or delete'),
    'fires once for the statement': trigger(
      "insert into public.noted (word) values ('x');",
      'after insert or update or delete',
      'statement',
    ),
  }
  it.each(Object.entries(writing))('can be put back in part, by name, where a trigger %s', async (_, ddl) => {
    const table = `writing${++made}`
    expect(await done(table, (plain + ddl).replaceAll('TABLE', table))).toEqual(ALL(table))
  })

  it('is told by what happened: a trigger counts for its own event', async () => {
    const insert = trigger("insert into public.noted (word) values ('x');", 'after insert')
    expect(await done('oninsert', (plain + insert).replaceAll('TABLE', 'oninsert'))).toEqual({
      reversible: 'partly yes yes',
      unsaid: ['Not put back: oninsert: what the trigger does may have written elsewhere.', '', ''],
    })
  })

  it('names the tables whose rows went with a removed one', async () => {
    const children = `create table near_one (id integer primary key, far integer references far_one on delete cascade);
      create table near_two (id integer primary key, far integer references far_one on delete set null on update set null);
      create table near_three (id integer primary key, far integer references far_one)`
    expect(await done('far_one', `create table far_one (id integer primary key, word text); ${children}`)).toEqual({
      reversible: 'yes yes partly',
      unsaid: [
        '',
        '',
        'Not put back: farOne: rows of public.near_one that may have been removed or changed with it (foreign key near_one_far_fkey).; Not put back: farOne: rows of public.near_two that may have been removed or changed with it (foreign key near_two_far_fkey).',
      ],
    })
  })

  it('sees the triggers of a partition and of the table under a view', async () => {
    const noting = "insert into public.noted (word) values ('x');"
    const parts = `create table parted (id integer primary key, word text) partition by range (id);
      create table parted_low partition of parted for values from (0) to (9);`
    expect(await done('parted', (parts + trigger(noting)).replaceAll('TABLE', 'parted_low'))).toEqual(ALL('parted'))
    const view = `create table below (id integer primary key, word text); create view above as select id, word from below;`
    expect(await done('above', (view + trigger(noting)).replaceAll('TABLE', 'below'), { key: ['id'] })).toEqual(
      ALL('above'),
    )
  })

  it('sees that a rule writes in the place of the statement', async () => {
    const ddl = `create table under_rule (id integer primary key, word text);
      create view ruled as select id, word from under_rule;
      create rule elsewhere as on update to ruled do instead update under_rule set word = new.word where id = old.id returning id, word`
    expect(await done('ruled', ddl, { key: ['id'] })).toEqual({
      reversible: 'yes partly yes',
      unsaid: ['', 'Not put back: ruled: what the rule elsewhere may have written elsewhere.', ''],
    })
  })

  it('passes a change through a view of several tables whose trigger writes in its place, where nothing can be removed', async () => {
    const mapping = await own.mapped(
      'public.joined',
      `create table joined_one (id integer primary key, word text); insert into joined_one values (1, 'a');
      create table joined_two (id integer primary key, one integer references joined_one); insert into joined_two values (7, 1);
      create view joined as select t.id, o.word from joined_two t join joined_one o on o.id = t.one;
      create function join_it() returns trigger language plpgsql as $$ begin update joined_one set word = new.word where id = (select one from joined_two where id = old.id); return new; end $$;
      create trigger in_place instead of update on joined for each row execute function join_it()`,
      { key: ['id'] },
    )
    const key = parseKeyParts(mapping, ['7'])
    const { receipt } = await changeRecord(own.target, mapping, { key, values: { word: 'b' }, guard: 'any', ...commit })
    expect([receipt.outcome, receipt.reversible]).toEqual(['committed', 'partly'])
    expect(await own.database.sql('select word from joined_one')).toEqual([{ word: 'b' }])
    await expect(removeRecord(own.target, mapping, { key, guard: 'any', ...commit })).rejects.toMatchObject({
      code: 'refused-by-database',
    })
  })

  it('names the tables whose columns went empty with a changed key, where the key is what was changed', async () => {
    const ddl = `create table coded (id integer primary key, word text unique);
      create table worded (id integer primary key, word text references coded (word) on update set null on delete restrict)`
    expect(await done('coded', ddl)).toEqual({
      reversible: 'yes partly yes',
      unsaid: [
        '',
        'Not put back: coded: rows of public.worded that may have been changed with it (foreign key worded_word_fkey).',
        '',
      ],
    })
  })
})
