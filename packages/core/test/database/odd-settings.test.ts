import { changeRecord, listEntries, loadRecord, parseKeyParts, type Mapping } from '@ledgerman/core'
import { openOwnTables, type OwnTables } from '../../../../testing/own-tables.js'

// What a database has set for all of its sessions changes neither what is stored nor what a statement means.
const SETTINGS = {
  array_nulls: 'off',
  quote_all_identifiers: 'on',
  default_transaction_isolation: 'serializable',
  xmloption: 'document',
  DateStyle: 'German, DMY',
  IntervalStyle: 'sql_standard',
  bytea_output: 'escape',
  extra_float_digits: '-5',
  TimeZone: 'Asia/Kathmandu',
}

let own: OwnTables
let mapping: Mapping
const options = { mode: 'commit', actor: 'test', guard: 'any' } as const
beforeAll(async () => {
  own = await openOwnTables(SETTINGS)
  mapping = await own.mapped(
    'public.plate',
    `create table plate (id integer primary key, tags text[], sizes numeric(6,2)[], doc xml, seen timestamptz, took interval, share float8, raw bytea, level text);
     create function say_level() returns trigger language plpgsql as $$ begin new.level := current_setting('transaction_isolation'); return new; end $$;
     create trigger say_level before update on plate for each row execute function say_level();
     insert into plate (id) values (1)`,
    { guard: { by: 'none' } },
  )
})
afterAll(() => own.close())

it('keeps every value as it is', async () => {
  const values = {
    tags: ['a', null, 'NULL'],
    sizes: ['1.50', null],
    doc: 'text <b>and</b> more',
    seen: '2026-02-03T21:00:00.123456Z',
    took: 'P1DT2H',
    share: 0.1 + 0.2,
    raw: 'AP9c',
  }
  const key = parseKeyParts(mapping, ['1'])
  const { record } = await changeRecord(own.target, mapping, { ...options, key, values })
  expect(record).toMatchObject({ ...values, level: 'read committed' })
  expect((await loadRecord(own.target, mapping, key)).record).toMatchObject(values)
  const [stored] = await own.database.sql(
    `select tags[2] is null and tags[3] = 'NULL' and sizes[2] is null as whole, seen = '2026-02-03 21:00:00.123456+00' as at from plate where id = 1`,
  )
  expect(stored).toEqual({ whole: true, at: true })
})

it('keeps texts of another encoding, and books what cannot be stored in it', async () => {
  const latin = await openOwnTables({}, {}, 'LATIN1')
  try {
    const tag = await latin.mapped(
      'public.tag',
      `create table tag (id integer primary key, name text check (length(name) < 9)); insert into tag values (1, 'caf' || chr(233))`,
      { guard: { by: 'none' } },
    )
    const key = parseKeyParts(tag, ['1'])
    const change = (name: string) => changeRecord(latin.target, tag, { ...options, key, values: { name } })
    expect((await loadRecord(latin.target, tag, key)).record).toEqual({ id: 1, name: 'café' })
    await change('thé')
    expect(await latin.database.sql('select octet_length(name) as bytes from tag')).toEqual([{ bytes: 3 }])
    await expect(change('→')).rejects.toMatchObject({ code: 'value-invalid', facts: { where: 'name' } })
    const { entries } = await listEntries(latin.target, { outcome: 'refused', limit: 5 } as never, () =>
      Promise.resolve(undefined),
    )
    expect(entries).toMatchObject([{ problem: 'value-invalid' }])
  } finally {
    await latin.close()
  }
})
