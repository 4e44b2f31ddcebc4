import {
  addRecord,
  changeRecord,
  deriveMapping,
  findRecords,
  loadRecord,
  parseKeyParts,
  parseUniqueKey,
  resolvePlan,
  removeRecord,
  runPlan,
  type Mapping,
} from '@ledgerman/core'
import { isProblem, type LedgermanProblem, type StepDefinition } from '@ledgerman/contract'
import { openOwnTables, type OwnTables } from '../../../../testing/own-tables.js'

// Tables that do more, or other things, than hold what is put into them.

let own: OwnTables

beforeAll(async () => {
  own = await openOwnTables()
})
afterAll(() => own.close())

const options = { mode: 'commit', actor: 'ada' } as const
const change = async (mapping: Mapping, key: string, values: Record<string, unknown>) =>
  changeRecord(own.target, mapping, { ...options, key: parseKeyParts(mapping, [key]), guard: 'any', values })
const run = async (mapping: Mapping, steps: StepDefinition[]) => {
  const plan = await resolvePlan(own.target, { params: {}, steps }, null, null, () => Promise.resolve(mapping))
  return (await runPlan(own.target, plan, { ...options, params: {} })).receipt
}
const problemOf = (work: Promise<unknown>): Promise<LedgermanProblem> =>
  work.then(
    () => Promise.reject(new Error('it was told as done')),
    (error: unknown) => (isProblem(error) ? error : Promise.reject(error as Error)),
  )

describe('a table that others inherit from', () => {
  let camera: Mapping

  beforeAll(async () => {
    camera = await own.mapped(
      'public.camera',
      `create table camera (id integer primary key, note text); create table wide_camera (field numeric) inherits (camera);
       insert into camera select n, 'own' from generate_series(1, 6) n; insert into wide_camera select n, 'heir', 1 from generate_series(1, 6) n`,
      { guard: { by: 'none' } },
    )
  })

  it('is changed and removed from by a condition only where that holds', async () => {
    await run(camera, [{ change: 'camera', where: `note = 'own' and id = 1`, expect: 1, values: { note: 'changed' } }])
    await run(camera, [{ remove: 'camera', where: `note = 'own' and id = 2`, expect: 1 }])
    expect(await own.database.sql('select note from wide_camera where id < 3 order by id')).toEqual([
      { note: 'heir' },
      { note: 'heir' },
    ])
    expect(await own.database.sql('select note from only camera where id < 3')).toEqual([{ note: 'changed' }])
  })

  it('refuses a key that several of the rows have', async () => {
    expect((await problemOf(change(camera, '3', { note: 'x' }))).code).toBe('record-ambiguous')
    expect(await own.database.sql(`select count(*)::int as n from camera where note = 'x'`)).toEqual([{ n: 0 }])
  })

  it('is paged without a gap', async () => {
    let rows = 0
    let after: string | undefined
    do {
      const page = await findRecords(own.target, camera, { limit: 3, after, bind: {} }, () =>
        Promise.reject(new Error()),
      )
      rows += page.found.length
      after = page.next ?? undefined
    } while (after !== undefined)
    expect(rows).toBe(11)
  })
})

describe('a table whose triggers write the row again after it was written', () => {
  let star: Mapping

  beforeAll(async () => {
    star = await own.mapped(
      'public.star',
      `create table star (id integer primary key, name text, upper_name text, seen integer not null default 0);
       create function keep_upper() returns trigger language plpgsql as $$ begin
         update star set upper_name = upper(new.name), seen = seen + 1 where id = new.id and upper_name is distinct from upper(new.name); return null; end $$;
       create trigger keep_upper after insert or update on star for each row execute function keep_upper();
       create function keep_late() returns trigger language plpgsql as $$ begin
         update star set seen = seen + 10 where id = new.id and name = 'late' and seen < 10; return null; end $$;
       create constraint trigger keep_late after update on star deferrable initially deferred for each row execute function keep_late();
       insert into star values (1, 'vega')`,
      { guard: { by: 'values' } },
    )
  })

  it.each([
    ['at once', 'altair', 'ALTAIR'],
    ['at the end of the transaction', 'late', 'LATE'],
  ])('is answered, guarded and booked as it is afterwards: %s', async (_, name, upper) => {
    const { record, guard } = await change(star, '1', { name })
    const now = await loadRecord(own.target, star, parseKeyParts(star, ['1']))
    expect(record).toEqual(now.record)
    expect(record).toMatchObject({ upperName: upper })
    expect(guard).toBe(now.guard)
    const entry = await own.lastEntry()
    expect(entry?.['after']).toMatchObject({ upper_name: upper, seen: String(now.record['seen']) })
    const again = { ...options, key: parseKeyParts(star, ['1']), guard: { guards: [guard ?? ''] } }
    await expect(changeRecord(own.target, star, { ...again, values: { name: 'deneb' } })).resolves.toBeDefined()
  })

  it('so is a new record, and a run says what its values may not show', async () => {
    const { record } = await addRecord(own.target, star, { ...options, values: { id: 2, name: 'sirius' } })
    expect(record).toMatchObject({ upperName: 'SIRIUS' })
    const { notShown } = await run(star, [{ change: 'star', key: { id: '2' }, values: { name: 'rigel' } }])
    expect(notShown).toEqual([
      expect.stringContaining('keep_upper may have written to the same rows'),
      'star: what the trigger keep_late may have written elsewhere.',
      'star: what the trigger keep_upper may have written elsewhere.',
    ])
  })
})

describe('what the database refuses in its own way', () => {
  it.each([
    ['XY123', 'refused-by-database'],
    ['45000', 'refused-by-database'],
    ['P0002', 'refused-by-database'],
    ['38000', 'refused-by-database'],
    ['23514', 'constraint-broken'],
    ['P0001', 'rule-broken'],
  ])('a trigger that raises %s', async (state, code) => {
    const table = `raises_${state.toLowerCase()}`
    const mapping = await own.mapped(
      `public.${table}`,
      `create table ${table} (id integer primary key, note text); insert into ${table} values (1, 'a');
       create function ${table}() returns trigger language plpgsql as $$ begin raise exception using errcode = '${state}', message = 'not tonight', hint = 'try tomorrow'; end $$;
       create trigger refuses before update on ${table} for each row execute function ${table}()`,
      { guard: { by: 'none' } },
    )
    const problem = await problemOf(change(mapping, '1', { note: 'b' }))
    expect(problem.code).toBe(code)
    expect(problem.detail).toContain(code === 'constraint-broken' ? 'not tonight' : 'not tonight (hint: try tomorrow)')
    expect(problem.detail).not.toContain('undefined')
  })

  it('tells a constraint of another table as that of the other table', async () => {
    const mapping = await own.mapped(
      'public.visit',
      `create table visit_log (note text constraint never_long check (length(note) < 5)); create table visit (id integer primary key, note text);
       create function log_visit() returns trigger language plpgsql as $$ begin insert into visit_log values (new.note); return new; end $$;
       create trigger log_visit before update on visit for each row execute function log_visit(); insert into visit values (1, 'a')`,
      { guard: { by: 'none' } },
    )
    const problem = await problemOf(change(mapping, '1', { note: 'far too long' }))
    expect(problem).toMatchObject({ code: 'constraint-broken', facts: { table: 'public.visit_log', properties: [] } })
    expect(problem.detail).toContain('never_long')
  })

  it('tells which way round a key that leads back to its own table is broken', async () => {
    const mapping = await own.mapped(
      'public.node',
      `create table node (id integer primary key, parent integer references node); insert into node values (1, null), (2, 1)`,
      { guard: { by: 'none' } },
    )
    expect((await problemOf(change(mapping, '1', { parent: 9 }))).facts['kind']).toBe('missing-parent')
    const removal = removeRecord(own.target, mapping, { ...options, key: parseKeyParts(mapping, ['1']), guard: 'any' })
    expect((await problemOf(removal)).facts['kind']).toBe('still-referenced')
  })

  it('tells a row that may be seen and not written as not written, rather than as none', async () => {
    const mapping = await own.mapped(
      'public.sealed',
      `create table sealed (id integer primary key, note text); insert into sealed values (1, 'a'); alter table sealed enable row level security;
       create policy see on sealed for select using (true); create policy write on sealed for update using (id > 10); create policy cut on sealed for delete using (id > 10)`,
      { guard: { by: 'none' } },
    )
    expect((await problemOf(change(mapping, '1', { note: 'b' }))).code).toBe('row-not-written')
    expect((await problemOf(change(mapping, '2', { note: 'b' }))).code).toBe('no-such-record')
    const removal = removeRecord(own.target, mapping, { ...options, key: parseKeyParts(mapping, ['1']), guard: 'any' })
    expect((await problemOf(removal)).code).toBe('row-not-written')
  })
})

describe('a column of a type with a text form of its own', () => {
  it('is read as that: int2vector, oidvector', async () => {
    const vectors = await own.mapped(
      'public.vectors',
      `create table vectors (id integer primary key, cols int2vector, oids oidvector); insert into vectors values (1, '1 2 3', '4 5'), (2, '', '')`,
      { guard: { by: 'none' } },
    )
    expect((await loadRecord(own.target, vectors, parseKeyParts(vectors, ['1']))).record).toEqual({
      id: 1,
      cols: '1 2 3',
      oids: '4 5',
    })
  })
})

describe('a table with a deferrable key', () => {
  it('has no key by itself, and the one its mapping names', async () => {
    const ddl = `create table slot (id integer not null, note text, unique (id) deferrable); insert into slot values (1, 'a'), (2, 'b')`
    const without = await own.mapped('public.slot', ddl, { guard: { by: 'none' } })
    const refused = await problemOf(change(without, '1', { note: 'x' }))
    expect(refused).toMatchObject({ code: 'no-key', facts: { constraint: 'slot_id_key' } })
    expect(deriveMapping(without.table, () => undefined).notes.join()).toMatch(/slot_id_key is deferrable/)
    const named = await own.mapped('public.slot', 'select 1', { guard: { by: 'none' }, key: ['id'] })
    expect((await change(named, '1', { note: 'x' })).receipt.steps[0]).toMatchObject({ matched: 1, changed: 1 })
  })
})

describe('a value that can be written in several ways', () => {
  it('is no change where json has the same value, whatever its spaces and order', async () => {
    const mapping = await own.mapped(
      'public.setup',
      `create table setup (id integer primary key, plan json); insert into setup values (1, '{"a": 1,  "b": [2]}')`,
      { guard: { by: 'none' } },
    )
    expect((await change(mapping, '1', { plan: { b: [2], a: 1 } })).receipt.steps[0]).toMatchObject({ changed: 0 })
    expect((await change(mapping, '1', { plan: { a: 2 } })).receipt.steps[0]).toMatchObject({ changed: 1 })
  })

  it('is found by another spelling of its key, in the book too', async () => {
    const mapping = await own.mapped(
      'public.sighting',
      `create table sighting (at timestamptz, host inet, code char(6), note text, primary key (at, host, code));
       insert into sighting values ('294276-12-31 23:59:59+00', '10.0.0.1', 'ab', 'a')`,
      { guard: { by: 'none' } },
    )
    const spelt = ['294276-12-31T23:59:59.000Z', '10.0.0.1/32', 'ab    ']
    const by = parseKeyParts(mapping, spelt)
    await changeRecord(own.target, mapping, { ...options, key: by, guard: 'any', values: { note: 'b' } })
    const late = changeRecord(own.target, mapping, {
      ...options,
      key: by,
      guard: 'any',
      values: { note: 'd' },
      loaded: { note: 'c' },
    })
    expect((await problemOf(late)).code).toBe('record-changed')
    const keys = await own.database.sql(`select distinct key from ledgerman.history where mapping = 'sighting'`)
    expect(keys).toHaveLength(1)
  })
})

describe('a version at the end of its range', () => {
  it('is told as that, not as a wrong value', async () => {
    const mapping = await own.mapped(
      'public.counted',
      `create table counted (id integer primary key, note text, version integer not null); insert into counted values (1, 'a', 2147483647)`,
      { guard: { by: 'version', property: 'version' } },
    )
    const problem = await problemOf(change(mapping, '1', { note: 'b' }))
    expect(problem).toMatchObject({ code: 'refused-by-database', facts: { sqlstate: '22003', where: 'version' } })
  })
})

describe('one row among many that a change by condition cannot write', () => {
  it('is named: by its key where a check or rule breaks, and by those found where one is missing', async () => {
    const mapping = await own.mapped(
      'public.quota',
      `create table quota (id integer primary key, note text, hours numeric(6,2) check (hours < 100), most integer);
       insert into quota select n, 'a, b', n * 10, 50 from generate_series(1, 8) n;
       create table use (quota integer references quota); insert into use values (6)`,
      { guard: { by: 'none' }, rules: [{ that: 'hours <= most', otherwise: 'Too many hours.' }] },
    )
    const add = (hours: string, where: string, expect: number): StepDefinition[] => [
      { change: 'quota', where, expect, compute: { hours: `hours + ${hours}` } },
    ]
    const check = await problemOf(run(mapping, add('25', 'id >= 7', 2)))
    expect(check).toMatchObject({ code: 'constraint-broken', facts: { kind: 'check', key: { id: 8 } } })
    expect(check.detail).toMatch(/ \(id 8\)\.$/)
    const rule = await problemOf(run(mapping, add('5', 'id <= 5', 5)))
    expect(rule).toMatchObject({ code: 'rule-broken', facts: { key: { id: 5 } } })
    expect(rule.detail).toBe('Too many hours (id 5).')
    const all = await problemOf(run(mapping, [{ remove: 'quota', where: 'id > 4', expect: 4 }]))
    expect(all).toMatchObject({ code: 'constraint-broken', facts: { kind: 'still-referenced', key: { id: 6 } } })
    expect(all.detail).toMatch(
      /Rows of public\.use still refer to this quota \(use_quota_fkey\)\. Change .* The quota has id 6\.$/,
    )
    const missing = await problemOf(run(mapping, add('1', 'id in (3, 77)', 2)))
    expect(missing.detail).toBe('Step 1 expected 2 rows of quota and matched 1: 3. Nothing was changed.')
  })
})

describe('a view without a key', () => {
  it('can be read, and says why not even all that match can be changed or removed', async () => {
    const mapping = await own.mapped(
      'public.remark',
      `create table remarked (id integer primary key, note text); insert into remarked values (1, 'a');
       create view remark as select note from remarked`,
      { guard: { by: 'none' } },
    )
    for (const step of [
      { remove: 'remark', where: `note = 'a'`, expect: 1 },
      { change: 'remark', where: `note = 'a'`, expect: 1, values: { note: 'b' } },
    ])
      expect((await problemOf(run(mapping, [step as StepDefinition]))).facts['findings']).toMatchObject([
        { message: expect.stringMatching(/^public\.remark is a view, and remark has no key/) as string },
      ])
    expect(await own.database.sql('select * from remarked')).toEqual([{ id: 1, note: 'a' }])
  })
})

it('a table without columns gets no record, and says so', async () => {
  const mapping = await own.mapped('public.bare', 'create table bare ()', { guard: { by: 'none' } })
  const adds = [() => addRecord(own.target, mapping, { values: {}, ...options }), () => run(mapping, [{ add: 'bare' }])]
  for (const add of adds)
    expect((await problemOf(add())).message).toMatch(/bare has no properties: there is nothing to add/)
})

describe('a unique index that holds for some rows only', () => {
  it('is no key to find one record by', async () => {
    const mapping = await own.mapped(
      'public.member',
      `create table member (id integer primary key, mail text not null, hours integer, active boolean not null);
       create unique index on member (mail) where active; insert into member values (1, 'm', 1, true), (2, 'm', 1, false)`,
      { guard: { by: 'none' } },
    )
    expect(() => parseUniqueKey(mapping, 'mail')).toThrow(/mail is not unique in public\.member; unique are: id\./)
    const byMail = run(mapping, [{ change: 'member', key: { mail: `'m'` }, guard: 'any', values: { hours: 2 } }])
    expect((await problemOf(byMail)).facts).toMatchObject({
      findings: [{ where: 'steps.1.key', message: 'mail is no unique key of member; its key is id' }],
    })
    expect(await own.database.sql('select sum(hours)::int as n from member')).toEqual([{ n: 2 }])
  })
})
