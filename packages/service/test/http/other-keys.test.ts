import { startTestService, type RunningService } from '../../../../testing/running-service.js'

// What was done to a record by another of its keys is known by this one too; what may have been done through a view is said not to be known.
let service: RunningService
const target = () => service.client.target('observatory')
const commit = { mode: 'commit' as const, guard: '*' }
const byCode = ['D1']
const moment = async () => {
  const [row] = await service.observatory.sql(
    `select to_char(clock_timestamp() at time zone 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS.US"Z"') as at`,
  )
  return String(row?.['at'])
}

beforeAll(async () => {
  service = await startTestService()
  await service.observatory
    .sql(`create table dome (id int primary key, code text not null unique, name text, mail text not null unique);
    create view open_dome as select id, name from dome; grant all on dome, open_dome to ledgerman_worker;
    insert into dome values (1, 'D1', 'One', 'one@harrowfell.example'), (2, '1', 'Two', 'two@harrowfell.example')`)
  const column = (name: string) => ({ [name]: { column: name } })
  const publish = (mapping: string, key: string, properties: object, table = 'dome') =>
    target().publishMapping(
      mapping,
      JSON.stringify({ mapping, table: `public.${table}`, key: [key], guard: { by: 'none' }, properties }),
    )
  await publish('byCode', 'code', { ...column('code'), ...column('name') })
  await publish('byId', 'id', { ...column('id'), ...column('code'), ...column('name') })
  await publish('byMail', 'mail', { mail: { column: 'mail', sensitive: true }, ...column('name') })
  await publish('openDome', 'id', { ...column('id'), ...column('name') }, 'open_dome')
})
afterAll(() => service.stop())

const told = async (mapping: string, key: string[]) =>
  (await target().history(mapping, key)).history.map(({ kind, changes }) => [
    kind,
    ...changes.map((each) => each.after),
  ])

it('by each of its keys a record has one history, and was what it was', async () => {
  const before = await moment()
  await target().change('byId', ['1'], { name: 'by id' }, commit)
  await target().change('byMail', ['one@harrowfell.example'], { name: 'by mail' }, commit)
  await target().run({
    mode: 'commit',
    steps: [{ change: 'byCode', where: `code = 'D1'`, expect: 1, values: { name: 'by code' } }],
  })
  const all = [
    ['changed', 'by code'],
    ['changed', 'by mail'],
    ['changed', 'by id'],
  ]
  expect(await told('byCode', byCode)).toEqual(all)
  expect(await told('byId', ['1'])).toEqual(all)
  expect(await told('byMail', ['one@harrowfell.example'])).toEqual(all)
  // The code of one is the id of another.
  expect(await told('byCode', ['1'])).toEqual([])
  expect(await target().loadAsOf('byCode', byCode, before)).toMatchObject({
    record: { code: 'D1', name: 'One' },
    sure: true,
  })
})

it('a conflict names who changed it by another key, and what was loaded', async () => {
  await service.observatory
    .sql(`create table mast (id int primary key, code text not null unique, height int, note text, version int not null default 1);
    grant all on mast to ledgerman_worker; insert into mast values (1, 'M1', 10, 'a')`)
  const names = ['id', 'code', 'height', 'note', 'version']
  const properties = Object.fromEntries(names.map((name) => [name, { column: name }]))
  for (const key of ['id', 'code'])
    await target().publishMapping(
      `mastBy${key}`,
      JSON.stringify({
        mapping: `mastBy${key}`,
        table: 'public.mast',
        key: [key],
        guard: { by: 'version', property: 'version' },
        properties,
      }),
    )
  await target().change('mastByid', ['1'], { height: 12 }, { mode: 'commit', guard: 'v1' })
  await expect(
    target().change('mastBycode', ['M1'], { note: 'b' }, { mode: 'commit', guard: 'v1' }),
  ).rejects.toMatchObject({
    code: 'record-changed',
    facts: { theirs: ['height'], overlap: [], by: { height: { actor: 'admin' } }, loaded: { height: 10 } },
  })
  // What a trigger wrote beside it, a mapping without that column has not in its images: nobody knows what was loaded.
  await service.observatory
    .sql(`create function mark() returns trigger language plpgsql as $$ begin new.note := 'marked'; return new; end $$;
    create trigger mark before update on mast for each row execute function mark()`)
  const { note: _, ...narrow } = properties
  const guard = { by: 'version', property: 'version' }
  await target().publishMapping(
    'mastHeight',
    JSON.stringify({ mapping: 'mastHeight', table: 'public.mast', key: ['id'], guard, properties: narrow }),
  )
  await target().change('mastHeight', ['1'], { height: 13 }, { mode: 'commit', guard: 'v2' })
  await expect(
    target().change('mastBycode', ['M1'], { height: 14 }, { mode: 'commit', guard: 'v2' }),
  ).rejects.toMatchObject({ facts: { theirs: [], overlap: null, unknown: ['height'] } })
})

it('one that was removed by another key was there before, and whose code it was is told from there on', async () => {
  await target().change('byId', ['2'], { code: 'D2' }, commit)
  const before = await moment()
  expect(await told('byCode', ['D2'])).toEqual([['changed', 'D2']])
  await target().remove('byId', ['2'], commit)
  expect(await target().loadAsOf('byId', ['2'], before)).toMatchObject({ record: { id: 2, code: 'D2', name: 'Two' } })
  expect((await target().loadAsOf('byCode', byCode, before)).sure).toBe(true)
})

it('says that changes through a view of the table are not looked through', async () => {
  const before = await moment()
  await target().change('openDome', ['1'], { name: 'open' }, commit)
  expect(await target().loadAsOf('byCode', byCode, before)).toMatchObject({
    sure: false,
    because: expect.stringContaining('entries of public.open_dome may be of it') as string,
  })
  expect((await target().history('byCode', byCode)).unseen).toEqual([
    'Entries of public.open_dome may be of it, and are not looked through.',
  ])
})

it('says what it cannot know of a column, or a table, that had another name', async () => {
  const before = await moment()
  await target().change('byId', ['1'], { name: 'renamed' }, commit)
  await service.observatory.sql('alter table dome rename name to label')
  const mapping = (table: string, column: string) =>
    JSON.stringify({
      mapping: 'renamed',
      table,
      key: ['id'],
      guard: { by: 'none' },
      properties: { id: { column: 'id' }, label: { column } },
    })
  await target().publishMapping('renamed', mapping('public.dome', 'label'))
  expect(await target().loadAsOf('renamed', ['1'], before)).toMatchObject({
    sure: false,
    because: expect.stringContaining('changed name, which the table does not have any more') as string,
  })
  await service.observatory.sql('alter table dome rename to rotunda')
  await target().publishMapping('renamed', mapping('public.rotunda', 'label'))
  expect(await target().loadAsOf('renamed', ['1'], before)).toMatchObject({
    sure: false,
    because: expect.stringMatching(/entries of .*public\.dome may be of it/) as string,
  })
})
