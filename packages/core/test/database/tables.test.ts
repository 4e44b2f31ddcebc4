import fc from 'fast-check'
import { fromRecordAddress, toRecordAddress, toTablePath } from '@ledgerman/contract'
import {
  addRecord,
  changeRecord,
  findRecords,
  loadRecord,
  parseKeyParts,
  removeRecord,
  resolveMapping,
  type Target,
} from '@ledgerman/core'
import type { TestDatabase } from '../../../../testing/databases.js'
import { codeOf, openOwnTables, type OwnTables } from '../../../../testing/own-tables.js'

let own: OwnTables
let database: TestDatabase
let target: Target
const commit = { mode: 'commit', actor: 'night-desk' } as const
const mapped: OwnTables['mapped'] = (...words) => own.mapped(...words)

beforeAll(async () => {
  own = await openOwnTables()
  ;({ database, target } = own)
})
afterAll(() => own.close())

describe('tables of a practitioner’s own', () => {
  it('may have any name, and columns named like ours', async () => {
    const mapping = await mapped(
      toTablePath('public', 'My "odd".Table'),
      `create table "My ""odd"".Table" ("Select" integer primary key, "guard" text, "written" text, "differs" text, "hit" text, "ünï cödé" text, "it's \\back" text)`,
    )
    const values = Object.fromEntries(mapping.properties.map(({ name, key }) => [name, key ? 1 : `of ${name}`]))
    const added = await addRecord(target, mapping, { values, ...commit })
    expect(added.record).toEqual(values)
    const key = parseKeyParts(mapping, ['1'])
    const changed = await changeRecord(target, mapping, {
      key,
      values: { guard: 'x', written: 'y', differs: null, hit: 'z' },
      guard: { guards: [added.guard ?? ''] },
      ...commit,
    })
    expect(changed.record).toMatchObject({ guard: 'x', written: 'y', differs: null, hit: 'z' })
    expect(await own.lastEntry()).toMatchObject({ after: { guard: 'x', written: 'y', differs: null, hit: 'z' } })
  })

  it('may be asked for many at a time, of which one is not there and one is held', async () => {
    const names = Array.from({ length: 250 }, (_, at) => `heap_${at}`)
    await database.sql(names.map((name) => `create table ${name} (id integer primary key);`).join(' '))
    await database.sql('create view held_view as select * from heap_0')
    target.forgetCatalogue()
    const holder = await database.session()
    try {
      await holder.query('begin; lock table held_view in access exclusive mode')
      const all = names.map((name) => target.table(`public.${name}`))
      const [missing, held] = [codeOf(target.table('public.heap_none')), codeOf(target.table('public.held_view'))]
      expect((await Promise.all(all)).map(({ name }) => name)).toEqual(names)
      expect([await missing, await held]).toEqual(['not-found', 'lock-timeout'])
    } finally {
      await holder.query('rollback')
      await holder.end()
    }
    expect(await target.table('public.held_view')).toMatchObject({ kind: 'view', columns: [{ name: 'id' }] })
  })

  it('may have types that are named as the role finds them', async () => {
    await database.sql(
      `create type weather as enum ('clear', 'cloudy'); create domain short_code as varchar(4) not null`,
    )
    expect(await target.type('weather')).toMatchObject({ sql: 'public.weather', labels: ['clear', 'cloudy'] })
    expect(await target.type('public.weather[]')).toMatchObject({ element: { sql: 'public.weather' } })
    expect(await target.type('short_code')).toMatchObject({
      comparable: 'character varying',
      domain: 'public.short_code',
    })
    expect(await target.type('whether')).toBeUndefined()
  })

  it('may have keys of several columns with commas, slashes, percent signs and accents', async () => {
    const mapping = await mapped(
      'public.odd_keys',
      'create table odd_keys (a text, b text, n numeric(6,2), note text, primary key (a, b, n))',
    )
    const part = fc.oneof(
      fc.constantFrom('', ',', '/', '%', '%2C', 'é', '..', '-', "'", '\\', '"', '{}', 'NULL'),
      fc.string({ unit: 'grapheme' }).map((each) => each.replaceAll('\0', '')),
    )
    await fc.assert(
      fc.asyncProperty(part, part, fc.integer({ min: 0, max: 9999 }), async (a, b, cents) => {
        const n = (cents / 100).toFixed(2)
        await database.sql('delete from odd_keys')
        await addRecord(target, mapping, { values: { a, b, n, note: 'new' }, ...commit })
        const key = parseKeyParts(mapping, fromRecordAddress(toRecordAddress([a, b, n])))
        const { guard } = await loadRecord(target, mapping, key)
        const { record } = await changeRecord(target, mapping, {
          key,
          values: { note: 'seen' },
          guard: { guards: [guard ?? ''] },
          ...commit,
        })
        expect(record).toEqual({ a, b, n, note: 'seen' })
      }),
      { numRuns: 40 },
    )
  })

  it('may be partitioned, and a change may move the row', async () => {
    const mapping = await mapped(
      'public.nightly',
      `create table nightly (id integer, half text, note text, row_version integer not null default 1, primary key (id, half)) partition by list (half);
       create table nightly_a partition of nightly for values in ('A'); create table nightly_b partition of nightly for values in ('B');
       insert into nightly values (1, 'A', 'first')`,
      { key: ['id', 'half'], properties: { id: { column: 'id' }, half: { column: 'half' }, note: { column: 'note' } } },
    )
    const loaded = await loadRecord(target, mapping, parseKeyParts(mapping, ['1', 'A']))
    const moved = await changeRecord(target, mapping, {
      key: parseKeyParts(mapping, ['1', 'A']),
      values: { half: 'B', note: 'moved' },
      guard: { guards: [loaded.guard ?? ''] },
      ...commit,
    })
    expect(moved.receipt.steps[0]).toMatchObject({ matched: 1, changed: 1 })
    expect(await database.sql('select tableoid::regclass::text as part, note from nightly')).toEqual([
      { part: 'nightly_b', note: 'moved' },
    ])
    expect((await loadRecord(target, mapping, parseKeyParts(mapping, ['1', 'B']))).guard).toBe(moved.guard)
    // A check that only this partition has.
    await database.sql(`alter table nightly_b add constraint short check (length(note) < 9)`)
    const key = parseKeyParts(mapping, ['1', 'B'])
    const broken = changeRecord(target, mapping, { key, values: { note: 'a long one' }, guard: 'any', ...commit })
    await expect(broken).rejects.toThrow(/would break the check short of its partition public\.nightly_b/)
  })

  it('may refer to a partitioned one, by a link to the whole of it', async () => {
    await database.sql(
      `create table sector (id integer primary key, note text) partition by range (id); create table sector_low partition of sector for values from (0) to (9);
       create table sighting (id integer primary key, sector integer references sector) partition by range (id); create table sighting_all partition of sighting default`,
    )
    for (const name of ['sighting', 'sighting_all'])
      expect((await target.table(`public.${name}`)).references).toMatchObject([
        { table: 'public.sector', columns: ['sector'] },
      ])
    // The constraint that refuses is the part of it for that partition, which nobody gave its name.
    const sector = await mapped('public.sector', 'insert into sector values (1); insert into sighting values (1, 1)')
    const removal = removeRecord(target, sector, { key: parseKeyParts(sector, ['1']), guard: 'any', ...commit })
    await expect(removal).rejects.toMatchObject({
      code: 'constraint-broken',
      facts: { kind: 'still-referenced', properties: ['id'] },
    })
  })

  it('may be views that PostgreSQL can update, with a key that the mapping names', async () => {
    const view = await mapped(
      'public.planned',
      `create table plan (id integer primary key, note text, state text not null default 'open', secret text); insert into plan values (1, 'one'), (2, 'two'), (3, 'two');
       create view planned as select id, note, upper(note) as loud from plan where state = 'open'`,
      { key: ['id'] },
    )
    expect(view.guard.by).toBe('values')
    const key = parseKeyParts(view, ['1'])
    const { guard } = await loadRecord(target, view, key)
    const changed = await changeRecord(target, view, {
      key,
      values: { note: 'uno' },
      guard: { guards: [guard ?? ''] },
      ...commit,
    })
    expect(changed.record).toMatchObject({ note: 'uno', loud: 'UNO' })
    expect(await codeOf(changeRecord(target, view, { key, values: { loud: 'x' }, guard: 'any', ...commit }))).toBe(
      'request-invalid',
    )
    // A key that is none after all changes nothing.
    const loose = resolveMapping({ ...view.definition, key: ['note'] }, 1, view.table)
    expect(
      await codeOf(
        changeRecord(target, loose, {
          key: parseKeyParts(loose, ['two']),
          values: { note: 'zwei' },
          guard: 'any',
          ...commit,
        }),
      ),
    ).toBe('record-ambiguous')
    expect(await database.sql('select count(*)::int as n from plan where note = $1', ['zwei'])).toEqual([{ n: 0 }])
  })

  it('may number, compute and default their columns', async () => {
    const mapping = await mapped(
      'public.made',
      `create table made (id integer generated always as identity primary key, a numeric(6,2) not null default 2, doubled numeric generated always as (a * 2) stored, at timestamptz not null default now())`,
    )
    const added = await addRecord(target, mapping, { values: {}, ...commit })
    expect(added.record).toMatchObject({ id: 1, a: '2.00', doubled: '4.00' })
    const changed = await changeRecord(target, mapping, {
      key: parseKeyParts(mapping, ['1']),
      values: { a: '5' },
      guard: 'any',
      ...commit,
    })
    expect(changed.receipt.steps[0]?.rows[0]).toMatchObject({
      after: { a: '5.00' },
      alsoChanged: { before: { doubled: '4.00' }, after: { doubled: '10.00' } },
    })
    expect(
      await codeOf(
        changeRecord(target, mapping, {
          key: parseKeyParts(mapping, ['1']),
          values: { doubled: '1' },
          guard: 'any',
          ...commit,
        }),
      ),
    ).toBe('request-invalid')
    expect(await codeOf(addRecord(target, mapping, { values: { id: 7 }, ...commit }))).toBe('request-invalid')
  })

  it('may have no key: they are listed and added to, and a change by key is refused with why', async () => {
    const mapping = await mapped('public.feed', 'create table feed (at timestamptz, wind real)')
    await addRecord(target, mapping, { values: { at: '2026-03-01T00:00:00Z', wind: 3.5 }, ...commit })
    expect(
      (await findRecords(target, mapping, { limit: 10 }, () => Promise.reject(new Error('no links')))).found,
    ).toEqual([{ at: '2026-03-01T00:00:00Z', wind: 3.5 }])
    expect(() => parseKeyParts(mapping, ['x'])).toThrow(/no unique key without nulls/)
    const seen = await mapped('public.feed_seen', 'create view feed_seen as select * from feed')
    expect(() => parseKeyParts(seen, ['x'])).toThrow(/is a view.* Name the properties that identify a record/)
  })

  it('may have more columns than a function takes arguments', async () => {
    const columns = Array.from({ length: 120 }, (_, at) => `c${at} text`).join(', ')
    const mapping = await mapped(
      'public.wide',
      `create table wide (id integer primary key, ${columns}); insert into wide (id) values (1)`,
    )
    const values = Object.fromEntries(Array.from({ length: 120 }, (_, at) => [`c${at}`, String(at)]))
    const changed = await changeRecord(target, mapping, {
      key: parseKeyParts(mapping, ['1']),
      values,
      guard: 'any',
      ...commit,
    })
    expect(changed.receipt.steps[0]?.rows[0]?.after).toEqual(values)
  })
})

describe('triggers and policies', () => {
  it('that swallow a matched row are named, and nothing they did stays', async () => {
    const mapping = await mapped(
      'public.stubborn',
      `create table stubborn (id integer primary key, note text); create table attempts (note text); insert into stubborn values (1, 'a');
       create function swallow() returns trigger language plpgsql as $$ begin insert into attempts values (new.note); return null; end $$;
       create trigger swallow before update on stubborn for each row execute function swallow()`,
    )
    for (const mode of ['commit', 'rehearse'] as const) {
      const refusal = await changeRecord(target, mapping, {
        key: parseKeyParts(mapping, ['1']),
        values: { note: 'b' },
        guard: 'any',
        mode,
        actor: 'x',
      }).catch((error: unknown) => error)
      expect(refusal).toMatchObject({ code: 'row-not-written', facts: { triggers: ['swallow'] } })
    }
    expect(await database.sql('select * from attempts')).toEqual([])
  })

  it('that mark a record in place of its removal are named, and no other', async () => {
    const mapping = await mapped(
      'public.kept',
      `create table kept (id integer primary key, gone boolean not null default false); insert into kept values (1);
       create function keep() returns trigger language plpgsql as $$ begin update kept set gone = true where id = old.id; return null; end $$;
       create trigger keep before delete on kept for each row execute function keep();
       create function look() returns trigger language plpgsql as $$ begin return new; end $$;
       create trigger look before update on kept for each row execute function look()`,
    )
    const removal = removeRecord(target, mapping, { key: parseKeyParts(mapping, ['1']), guard: 'any', ...commit })
    await expect(removal).rejects.toMatchObject({
      code: 'row-not-written',
      detail: expect.stringContaining('the trigger keep may be why. Where it marks records') as unknown,
      facts: { triggers: ['keep'] },
    })
    expect(await database.sql('select * from kept')).toEqual([{ id: 1, gone: false }])
  })

  it('read who adds a record of defaults only', async () => {
    const mapping = await mapped(
      'public.signed',
      `create table signed (id integer generated always as identity primary key, by text);
       create function sign() returns trigger language plpgsql as $$ begin new.by := current_setting('ledgerman.actor', true); return new; end $$;
       create trigger sign before insert on signed for each row execute function sign()`,
    )
    expect((await addRecord(target, mapping, { values: {}, ...commit })).record).toEqual({ id: 1, by: 'night-desk' })
  })

  it('read who acts, and hide rows from those they are not for', async () => {
    const mapping = await mapped(
      'public.owned',
      `create table owned (id integer primary key, owner text, note text); insert into owned values (1, 'ines', 'a'), (2, 'tomas', 'b');
       alter table owned enable row level security; create policy own on owned to ledgerman_worker using (owner = current_setting('ledgerman.actor', true))`,
    )
    const as = (actor: string, id: string, values: Record<string, unknown>) =>
      codeOf(
        changeRecord(target, mapping, {
          key: parseKeyParts(mapping, [id]),
          values,
          guard: 'any',
          mode: 'commit',
          actor,
        }),
      )
    expect(await as('ines', '1', { note: 'mine' })).toBe('done')
    expect(await as('ines', '2', { note: 'theirs' })).toBe('no-such-record')
    expect(await as('ines', '1', { owner: 'tomas' })).toBe('row-not-written')
  })
})
