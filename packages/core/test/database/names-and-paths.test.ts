import {
  addRecord,
  changeRecord,
  exportRecords,
  findRecords,
  loadRecord,
  parseKeyParts,
  resolvePlan,
  removeRecord,
  replaceRecord,
  runPlan,
  Target,
  type Mapping,
} from '@ledgerman/core'
import type { StepDefinition } from '@ledgerman/contract'
import { codeOf, openOwnTables, type OwnTables } from '../../../../testing/own-tables.js'

/** Every name that a statement of ours gives to a part, a column or a row of its own. */
const OURS =
  't t1 t2 hit done asked who found page guard written place part differs guard_holds as_expected actor key_1 new_1 new_2 image_key image_before image_after c0 o0 a0 b1 n ok at yes told step texts matched changed record v x i later again e s p g h1 d1 g0 w1 r1 e1 counts entered imaged named fit may taken first one excluded old new booked named_1 wanted events key before after'.split(
    ' ',
  )

let own: OwnTables
const findMapping = () => Promise.reject(new Error('no link is followed here'))

beforeAll(async () => {
  own = await openOwnTables()
})
afterAll(() => own.close())

const run = async (target: Target, mapping: Mapping, steps: StepDefinition[], name: string | null = null) => {
  const plan = await resolvePlan(target, { params: {}, steps }, name, name === null ? null : 1, () =>
    Promise.resolve(mapping),
  )
  return (await runPlan(target, plan, { mode: 'commit', actor: 'ada', params: {} })).receipt
}
const change = (target: Target, mapping: Mapping, key: string[], values: Record<string, unknown>) =>
  changeRecord(target, mapping, {
    mode: 'commit',
    actor: 'ada',
    key: parseKeyParts(mapping, key),
    guard: 'any',
    values,
  })

describe.each([
  ['a table', 'create table', ', primary key (t)'],
  ['a view without a key', 'view', ''],
])('%s whose columns have every name that a statement of ours uses', (kind, make, end) => {
  let mapping: Mapping

  beforeAll(async () => {
    const columns = [...OURS, 'guard of it'].map((name) => `"${name}" text`).join(', ')
    const rows = `insert into base_${kind.length} (t, hit, done, t1) select 'k' || n, 'h' || n, 'd' || n % 3, 'same' from generate_series(1, 30) n`
    const ddl =
      make === 'view'
        ? `create table base_${kind.length} (${columns}); ${rows}; create view named_view as select * from base_${kind.length}`
        : `create table base_${kind.length} (${columns}${end}); ${rows}`
    mapping = await own.mapped(make === 'view' ? 'public.named_view' : `public.base_${kind.length}`, ddl, {
      guard: make === 'view' ? { by: 'none' } : { by: 'values' },
    })
  })

  it('is paged without a gap, and exported', async () => {
    const seen: unknown[] = []
    let after: string | undefined
    do {
      const page = await findRecords(
        own.target,
        mapping,
        { where: `t1 = 'same'`, order: 'done desc', limit: 7, after, bind: {} },
        findMapping,
      )
      seen.push(...page.found.map(({ t }) => t))
      after = page.next ?? undefined
    } while (after !== undefined)
    expect(new Set(seen).size).toBe(30)
    expect(seen).toHaveLength(30)
    if (make === 'view') return
    const { batches } = await exportRecords(own.target, mapping, { form: 'csv', withGuard: true }, findMapping)
    let rows = 0
    for await (const batch of batches) rows += batch.length
    expect(rows).toBe(30)
  })

  if (make === 'view') return

  it('is loaded, changed, replaced, added to and removed from, alone and by many at once', async () => {
    const all = Array.from({ length: 12 }, (_, at) =>
      change(own.target, mapping, [`k${at + 1}`], { hit: 'shared', b1: 'x' }),
    )
    for (const { receipt } of await Promise.all(all)) expect(receipt.steps[0]?.changed).toBe(1)
    const loads = Array.from({ length: 12 }, (_, at) =>
      loadRecord(own.target, mapping, parseKeyParts(mapping, [`k${at + 1}`])),
    )
    for (const { record } of await Promise.all(loads)) expect(record).toMatchObject({ hit: 'shared', b1: 'x' })
    const options = { mode: 'commit', actor: 'ada' } as const
    const added = await addRecord(own.target, mapping, { ...options, values: { t: 'new one', a0: 'a' } })
    const condition = { key: parseKeyParts(mapping, ['new one']), guard: { guards: [added.guard ?? ''] } }
    const { t: _, ...values } = added.record
    const replaced = await replaceRecord(own.target, mapping, {
      ...options,
      ...condition,
      values: { ...values, a0: 'b' },
    })
    expect(replaced.record['a0']).toBe('b')
    await removeRecord(own.target, mapping, { ...options, ...condition, guard: { guards: [replaced.guard ?? ''] } })
    expect(await codeOf(loadRecord(own.target, mapping, condition.key))).toBe('no-such-record')
  })

  it.each([null, 'named'])('takes every kind of step (%s)', async (name) => {
    const steps: StepDefinition[] = [
      { load: mapping.name, as: 'both', where: `t in ('k20', 'k21')`, expect: 2, lock: 'change' },
      { change: mapping.name, key: { t: `'k20'` }, compute: { a0: `hit || '!'`, b1: 't' } },
      {
        change: mapping.name,
        where: `t1 = 'same' and t like 'k2%'`,
        expect: 'some',
        compute: { new1: `coalesce(new1, '') || 'n'` },
      },
      { remove: mapping.name, where: `t = 'k99'`, expect: 'none' },
    ]
    const { outcome, steps: told } = await run(own.target, mapping, steps, name)
    expect(outcome).toBe('committed')
    expect(told[1]).toMatchObject({ matched: 1 })
  })
})

describe('whatever the search path of the role leads to', () => {
  let target: Target
  let doc: Mapping
  let mail: Mapping
  let paths: Mapping

  beforeAll(async () => {
    await own.database.sql(`
      create schema ext; create extension citext schema ext; create extension ltree schema ext; create schema tricks;
      create function public.lower(varchar) returns text language sql immutable as $$ select 'HIJACKED' $$;
      create function public.vc_eq(varchar, varchar) returns boolean language sql immutable as $$ select true $$;
      create operator public.= (leftarg = varchar, rightarg = varchar, function = public.vc_eq);
      create function tricks.int_eq(int, int) returns boolean language plpgsql immutable as $$ begin return true; end $$;
      create operator tricks.= (leftarg = int, rightarg = int, function = tricks.int_eq);
      create function tricks.lower(text) returns text language sql immutable as $$ select 'HIJACKED' $$;
      create function tricks.set_config(text, text, boolean) returns text language sql as $$ select 'nope' $$;
      create function tricks.record_image_ne(record, record) returns boolean language plpgsql immutable as $$ begin return false; end $$;
      create function tricks.hash_array_extended(text[], integer) returns bigint language sql immutable as $$ select 1::bigint $$;
      create function tricks.sha256(bytea) returns bytea language sql immutable as $$ select '\\x00'::bytea $$;
      create type tricks.text as enum ('no'); create table tricks.pg_class (oid int, relname pg_catalog.text)`)
    doc = await own.mapped(
      'public.doc',
      `create table doc (id integer primary key, code varchar(20) unique not null, title text);
       insert into doc values (1, 'A', 'First'), (2, 'B', 'Second'), (3, 'C', 'Third')`,
      { key: ['code'] },
    )
    mail = await own.mapped(
      'public.mail',
      `create table mail (address ext.citext primary key, name text); insert into mail values ('Ann@x.org', 'Ann'), ('bob@x.org', 'Bob')`,
    )
    paths = await own.mapped(
      'public.paths',
      `create table paths (p ext.ltree primary key, v text); insert into paths values ('a.b', 'x'), ('a', 'y')`,
    )
    await own.database.sql(`
      grant usage on schema ext, tricks to ledgerman_worker;
      alter role ledgerman_worker in database ${own.database.name} set search_path = tricks, pg_catalog, public`)
    target = new Target({ name: 'own', url: own.database.url, connections: 5, digestKey: Buffer.from('k') })
  })
  afterAll(() => target.close())

  it('a record is found by its key and no other', async () => {
    expect((await loadRecord(target, doc, parseKeyParts(doc, ['B']))).record).toMatchObject({ id: 2 })
    expect(await codeOf(change(target, doc, ['ZZZ'], { title: 'x' }))).toBe('no-such-record')
    const { receipt } = await change(target, doc, ['B'], { title: 'Changed' })
    expect(receipt.steps[0]?.rows[0]).toMatchObject({ key: { code: 'B' }, after: { title: 'Changed' } })
    expect(await own.database.sql('select id from public.doc where title = $1', ['Changed'])).toEqual([{ id: 2 }])
  })

  it.each([
    [`lower(code) = 'a'`, [1]],
    [`id = 2`, [2]],
    [`id in (2, 3)`, [2, 3]],
    [`code in ('A', 'C')`, [1, 3]],
    [`code not in ('A', 'C')`, [2]],
    [`code is distinct from 'A'`, [2, 3]],
    [`code between 'A' and 'B'`, [1, 2]],
    [`code like 'A%'`, [1]],
    [`nullif(code, 'A') is null`, [1]],
  ])('%s means what it says', async (where, ids) => {
    const { found } = await findRecords(target, doc, { where, limit: 10, bind: {} }, findMapping)
    expect(found.map(({ id }) => id)).toEqual(ids)
  })

  it('a type is compared by its own operators, wherever they are', async () => {
    expect((await loadRecord(target, mail, parseKeyParts(mail, ['ann@X.ORG']))).record).toMatchObject({ name: 'Ann' })
    const { found } = await findRecords(
      target,
      mail,
      { where: `address = 'ANN@x.org'`, limit: 10, bind: {} },
      findMapping,
    )
    expect(found).toHaveLength(1)
    expect((await loadRecord(target, paths, parseKeyParts(paths, ['a.b']))).record).toMatchObject({ v: 'x' })
  })

  it('a run changes what it names', async () => {
    await run(target, doc, [{ change: 'doc', key: { code: `'C'` }, compute: { title: `title || '!'` } }])
    expect(await own.database.sql(`select title from public.doc order by id`)).toEqual([
      { title: 'First' },
      { title: 'Changed' },
      { title: 'Third!' },
    ])
  })
})
