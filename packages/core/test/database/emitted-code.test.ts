import fc from 'fast-check'
import pg from 'pg'
import { emitCode, loadRecord, parseKeyParts, resolveMapping, resolvePlan, type Mapping } from '@ledgerman/core'
import { mappingDefinition, printJson, transactionDefinition, type RecordValues } from '@ledgerman/contract'
import { compileCode, type CompiledCode } from '../../../../testing/compiled-code.js'
import { ODD_TYPES, RELATIONS } from '../../../../testing/odd-relations.js'
import { openOwnTables, type OwnTables } from '../../../../testing/own-tables.js'
import { numbersAre, readJson, textsAre, writeJson } from '../../templates/support.js'

// Relations that nobody tuned to us, as code: it compiles, and reads and writes what we read and write.
let own: OwnTables
let pool: pg.Pool
let code: CompiledCode
let booked: CompiledCode
const mappings = new Map<string, Mapping>()
const isFinite = (record: RecordValues) => !printJson(record).includes('12345678901234567890')

beforeAll(async () => {
  own = await openOwnTables({}, {}, { isTrapped: true })
  await own.database.sql(ODD_TYPES)
  for (const { path, ddl } of RELATIONS) {
    const isView = path === 'public.bright'
    mappings.set(path, await own.mapped(path, ddl, isView ? { key: ['id'], guard: { by: 'none' } } : {}))
  }
  pool = new pg.Pool({ connectionString: own.database.ownerUrl, max: 2 })
  code = await compileCode(emitCode([...mappings.values()], []))
  booked = await compileCode(emitCode([...mappings.values()].map(withSecret), [], true))
  booked.module.configureBook({ actor: 'tests', digestKey: Buffer.from('k') })
})
afterAll(async () => {
  code?.remove()
  booked?.remove()
  await pool?.end()
  await own.close()
})

describe('what written code judges without asking', () => {
  it('is judged as PostgreSQL does', async () => {
    const digits = fc.string({ unit: fc.constantFrom(...'0123456789'), minLength: 1, maxLength: 25 })
    const number = fc.oneof(
      fc.constantFrom('NaN', 'Infinity', '-Infinity', '0', '-0', '+0.0', '.5', '5.', '1e3', '1000', '12E-2', '0.12'),
      fc
        .tuple(fc.constantFrom('', '-', '+'), digits, fc.option(digits))
        .map(([sign, whole, part]) => `${sign}${whole}${part === null ? '' : `.${part}`}`),
    )
    const pairs = fc.sample(fc.tuple(fc.oneof(number, fc.constant(null)), fc.oneof(number, fc.constant(null))), 800)
    // Each with itself, and with itself in another form, too: equal numbers are rare among others.
    const all = pairs.flatMap(([one, other]) => [
      [one, other],
      [one, one],
      [one, one === null || !/^[+-]?\d+$/.test(one) ? one : `${one}.00`],
    ])
    const operators = ['=', '<>', '<', '<=', '>', '>='] as const
    const judged = await own.database.sql(
      `select ${operators.map((operator, at) => `coalesce(a::numeric ${operator} b::numeric, false) as o${at}`).join(', ')}, coalesce(a = b, false) as o6, coalesce(a <> b, false) as o7
       from unnest($1::text[], $2::text[]) with ordinality as u(a, b, n) order by n`,
      [all.map(([one]) => one), all.map(([, other]) => other)],
    )
    all.forEach(([one = null, other = null], at) => {
      const here = [
        ...operators.map((operator) => numbersAre(one, operator, other)),
        textsAre(one, '=', other),
        textsAre(one, '<>', other),
      ]
      expect([one, other, ...here]).toEqual([one, other, ...Object.values(judged[at] ?? {})])
    })
  })
})

it('saves a json value that nobody touched as it was, to the last digit, and one that somebody did as it is then', () => {
  const source = '{"a": 12345678901234567890.10, "list": [1.50, 1e400]}'
  const read = readJson(source) as { a: number; list: number[] }
  expect(writeJson(read, 'settings')).toBe(source)
  read.list[0] = 2
  expect(JSON.parse(writeJson(read, 'settings') ?? '')).toEqual({ a: 12345678901234567890.1, list: [2, null] })
  expect([writeJson(readJson('null'), 'settings'), writeJson({ 'ledgerman:json': null }, 'settings')]).toEqual([
    'null',
    'null',
  ])
})

describe.each(RELATIONS)('code for a relation $name', ({ path }) => {
  it('finds, loads, changes, removes and adds records as they are', async () => {
    const mapping = mappings.get(path) as Mapping
    const type = typeOf(mapping.name)
    const { module } = code
    const [{ n = 0 } = {}] = await own.database.sql(`select count(*)::int as n from ${mapping.table.sql}`)
    const all = await module[`find${type}`](pool)
    expect(all).toHaveLength(n as number)
    for (const loaded of all) {
      const { record } = loaded
      const key = Object.fromEntries(mapping.key.map(({ name }) => [name, record[name]]))
      expect(await module[`load${type}`](pool, key)).toEqual(loaded)
      const texts = mapping.key.map(({ name }) => String(record[name]))
      const theirs = await loadRecord(own.target, mapping, parseKeyParts(mapping, texts))
      // Numbers in JSON that JavaScript cannot hold are what the code's reader makes of them.
      if (isFinite(theirs.record)) expect(record).toEqual(JSON.parse(printJson(theirs.record)))
      const client = await pool.connect()
      try {
        await client.query('begin')
        const changed = await module[`change${type}`](client, loaded, { note: 'was' })
        expect(changed).toMatchObject({ matched: 1, changed: 1, record: { note: 'was' } })
        const back = await module[`change${type}`](client, changed, { note: 'is' })
        const same = await module[`change${type}`](client, back, { note: 'is' })
        expect(same).toMatchObject({ matched: 1, changed: 0 })
        await client.query('savepoint whole')
        const removed = await module[`remove${type}`](client, back).catch((error: { code: string }) => error.code)
        if (removed === 'constraint-broken') continue
        const addable = mapping.properties.filter(({ lockedForAddBecause }) => lockedForAddBecause === null)
        const values = Object.fromEntries(addable.map(({ name }) => [name, back.record[name]]))
        const added = await module[`add${type}`](client, values)
        if (mapping.table.triggers.length === 0 && isFinite(theirs.record)) expect(added.record).toEqual(back.record)
        // Which stamp a row of a partition has got within a savepoint nothing tells.
        if (loaded !== all[0] || mapping.table.kind === 'partitioned table') continue
        // With a book each of the three is one statement, which writes its entry as well.
        await client.query('rollback to savepoint whole')
        const noted = await booked.module[`change${type}`](client, back, { note: 'noted' })
        const secret = withSecret(mapping).properties.find(({ sensitive }) => sensitive)
        if (secret) await booked.module[`change${type}`](client, noted, { [secret.name]: noted.record[secret.name] })
        await booked.module[`remove${type}`](client, noted)
        await booked.module[`add${type}`](client, values)
        const { rows } = await client.query(
          `select distinct e.changed, before is not null as b, after is not null as a, key is not null as k
           from ledgerman.entry e join ledgerman.statement s on s.id = e.statement where s.mapping = $1 and e.changed > 0 order by b desc, a desc`,
          [mapping.name],
        )
        expect(rows).toEqual([
          { changed: 1, b: true, a: true, k: true },
          { changed: 1, b: true, a: false, k: true },
          { changed: 1, b: false, a: true, k: true },
        ])
      } finally {
        await client.query('rollback')
        client.release()
      }
    }
  })
})

describe('a record that a policy lets be read, and not be written', () => {
  it.each([false, true])('is no missing one (with a book: %s)', async (isBooked) => {
    const ddl = `create table if not exists sealed (id integer primary key, note text); insert into sealed values (1, 'a') on conflict do nothing;
      alter table sealed enable row level security; drop policy if exists see on sealed; create policy see on sealed for select using (true)`
    const mapping = await own.mapped('public.sealed', ddl)
    const { module, remove } = await compileCode(emitCode([mapping], [], isBooked))
    const workers = new pg.Pool({ connectionString: own.database.url, max: 1 })
    if (isBooked) module.configureBook({ actor: 'tests' })
    try {
      const loaded = await module.loadSealed(workers, { id: 1 })
      await expect(module.changeSealed(workers, loaded, { note: 'b' })).rejects.toMatchObject({
        code: 'row-not-written',
      })
      await expect(module.removeSealed(workers, loaded)).rejects.toMatchObject({ code: 'row-not-written' })
      const gone = { ...loaded, record: { id: 2, note: 'a' } }
      await expect(module.changeSealed(workers, gone, { note: 'b' })).rejects.toMatchObject({ code: 'no-such-record' })
      if (isBooked) expect((await own.lastEntry())?.['problem']).toBe('no-such-record')
    } finally {
      remove()
      await workers.end()
    }
  })
})

describe('values that their own type, or their collation, holds for the same', () => {
  it('are written as the others that they are, and once', async () => {
    const alike = await own.mapped(
      'public.alike',
      `create collation any_case (provider = icu, locale = 'und-u-ks-level2', deterministic = false);
       create table alike (id integer primary key, band text collate any_case, span interval, share numeric, ratio float8, zone timetz,
         plain text, hours numeric(8,2), taken timestamptz, ok boolean);
       insert into alike values (1, 'r', '1 day', 1.0, 0, '12:00+00', 'r', 1, '2026-02-03T21:00Z', true)`,
    )
    const { module, remove } = await compileCode(emitCode([alike], []))
    try {
      let loaded = await module.loadAlike(pool, { id: 1 })
      const asTheyAre = {
        band: 'r',
        share: '1.0',
        ratio: 0,
        plain: 'r',
        hours: '1.0',
        taken: '2026-02-03T21:00:00Z',
        ok: true,
      }
      expect((await module.changeAlike(pool, loaded, asTheyAre)).changed).toBe(0)
      const others = {
        band: 'R',
        span: 'PT24H',
        share: '1.00',
        ratio: -0,
        zone: '13:00:00+01',
        plain: 'R',
        hours: '1.01',
        ok: null,
      }
      for (const [name, value] of Object.entries(others)) {
        const written = await module.changeAlike(pool, loaded, { [name]: value })
        loaded = await module.changeAlike(pool, written, { [name]: value })
        expect([name, written.changed, loaded.changed]).toEqual([name, 1, 0])
      }
    } finally {
      remove()
    }
  })
})

describe('a table that is altered while connections stay open', () => {
  it('is read and written as it is now', async () => {
    const path = 'public.altered_meanwhile'
    const ddl =
      'create table altered_meanwhile (id integer primary key, span varchar(9)); insert into altered_meanwhile values (1, 1)'
    const mapping = await own.mapped(path, ddl, {})
    const { module, remove } = await compileCode(emitCode([mapping], []))
    const [load, change] = [module['loadAlteredMeanwhile'], module['changeAlteredMeanwhile']]
    try {
      const ofBoth = () => Promise.all([load(pool, { id: 1 }), load(pool, { id: 1 })])
      const [before] = await ofBoth()
      await change(pool, before, { span: '2' })
      await own.database.sql('alter table altered_meanwhile alter column span type varchar(12)')
      const [loaded] = await ofBoth()
      expect(loaded.record).toEqual({ id: 1, span: '2' })
      await own.database.sql('alter table altered_meanwhile alter column span type varchar(15)')
      expect(await change(pool, loaded, { span: '3' })).toMatchObject({ matched: 1, changed: 1, record: { span: '3' } })
    } finally {
      remove()
    }
  })
})

describe.each(['plain', 'booked'])('a step of a written transaction, %s', (form) => {
  let module: CompiledCode['module']
  let compiled: CompiledCode

  beforeAll(async () => {
    const ddl = 'create table awaited (id integer primary key, hours numeric(6,2), version integer not null default 1)'
    const mapping = await own.mapped('public.awaited', `drop table if exists awaited; ${ddl}`, {
      guard: { by: 'version', property: 'version' },
      rules: [{ that: 'hours < 100', otherwise: 'Too many hours.' }],
    })
    await own.database.sql('insert into awaited values (1, 1, 1)')
    const raise = transactionDefinition.parse({
      transaction: 'raise',
      params: { seen: { type: 'text' }, by: { type: 'numeric' } },
      steps: [
        { change: 'awaited', key: { id: 1 }, guard: ':seen', compute: { hours: 'hours + :by' } },
        { add: 'awaited', when: ':by > 50', values: { id: 2, hours: 1 } },
      ],
    })
    const plan = await resolvePlan(own.target, raise, 'raise', 1, () => Promise.resolve(mapping))
    compiled = await compileCode(emitCode([], [{ ...plan, name: 'raise' }], form === 'booked'))
    module = compiled.module
  })
  afterAll(() => compiled?.remove())

  const row = async () => (await own.database.sql('select hours, version from awaited order by id'))[0]
  const entries = () =>
    own.database.sql(`select outcome, changed from ledgerman.entry where run->>'transaction' = 'raise' order by id`)

  it('waits for whoever changes its record, and goes by what is there then', async () => {
    const other = await own.database.session()
    await other.query('begin')
    await other.query('update awaited set hours = 5, version = 2 where id = 1')
    const raised = module['raise'](pool, { seen: 'v2', by: '1' }) as Promise<unknown>
    for (;;) {
      // Others that wait in the same cluster do not count.
      const [waits] = await own.database.sql(
        `select count(*)::int as n from pg_stat_activity where datname = current_database() and wait_event_type = 'Lock'`,
      )
      if (waits?.['n'] === 1) break
    }
    await other.query('commit')
    await other.end()
    expect(await raised).toMatchObject({ matched: 1, changed: 1 })
    expect(await row()).toEqual({ hours: '6.00', version: 3 })
  })

  it('says why nothing was written', async () => {
    await expect(module['raise'](pool, { seen: 'v2', by: '1' })).rejects.toMatchObject({
      code: 'record-changed',
      current: { hours: '6.00' },
      guard: 'v3',
    })
    expect(await module['raise'](pool, { seen: 'v3', by: '0' })).toMatchObject({ matched: 1, changed: 0 })
    await expect(module['raise'](pool, { seen: 'v3', by: '94' })).rejects.toMatchObject({ code: 'rule-broken' })
    expect(await row()).toEqual({ hours: '6.00', version: 3 })
    expect(await module['raise'](pool, { seen: 'v3', by: '60' })).toMatchObject({ matched: 2, changed: 2 })
    await own.database.sql('delete from awaited where id = 1')
    await expect(module['raise'](pool, { seen: 'v4', by: '1' })).rejects.toMatchObject({ code: 'no-such-record' })
    const committed = [1, 0, 2].map((changed) => ({ outcome: 'committed', changed }))
    const told = await entries()
    expect(told.filter(({ outcome }) => outcome === 'committed')).toEqual(form === 'booked' ? committed : [])
    expect(told).toHaveLength(form === 'booked' ? 6 : 0)
  })
})

describe('names that are in the way', () => {
  it('become code that compiles, each in a place of its own', async () => {
    const names = [
      'class',
      'Promise',
      'Error',
      'record',
      'a_b',
      'aB',
      'a__b',
      'звезда',
      'support',
      'index',
      '_',
      'Db',
      'loaded',
      'x1',
      'X1',
      'text',
      'm²',
    ]
    const table = await own.target.table('public.case_of')
    const base = mappings.get('public.case_of') as Mapping
    const properties = Object.fromEntries(
      ['constructor', 'delete', 'toString²', 'звук'].map((name, at) => [name, { column: table.columns[at]?.name }]),
    )
    const named = names.map((mapping) =>
      mappingDefinition.parse({
        mapping,
        table: 'public.case_of',
        key: ['constructor'],
        guard: { by: 'none' },
        properties,
      }),
    )
    const resolved = await Promise.all(named.map((definition) => resolveMapping(definition, 1, base.table)))
    const plans = await Promise.all(
      ['class', 'load-class', 'await', 'a-b', 'move'].map((name) =>
        resolvePlan(
          own.target,
          {
            params: { new: { type: 'text' }, 'new²': { type: 'text', nullable: true } },
            steps: [
              { change: 'record', key: { constructor: '1' }, compute: { delete: 'coalesce(:new², :new)' }, as: 'x²' },
            ],
          },
          name,
          1,
          () => Promise.resolve(resolved.find((each) => each.name === 'record') as Mapping),
        ),
      ),
    )
    const compiled = await compileCode(emitCode(resolved, plans as never))
    try {
      const functions = Object.keys(compiled.module).filter((name) => name.startsWith('load'))
      expect(functions.length).toBe(names.length + 1)
      const paths = emitCode(resolved, plans as never).map(({ path }) => path)
      expect(new Set(paths.map((path) => path.toLowerCase())).size).toBe(paths.length)
      expect(await compiled.module.move(pool, { new: 'now', 'new²': null })).toMatchObject({
        matched: 1,
        changed: 1,
        steps: { 'x²': { changed: 1 } },
      })
    } finally {
      compiled.remove()
    }
  })
})

/** The same with its first property sensitive that is neither key nor note: a digest is kept of it only, where it is written. */
function withSecret(mapping: Mapping): Mapping {
  const { name, table, key, guard, properties } = mapping
  const secret = properties.find(
    (property) => property.lockedBecause === null && !key.includes(property) && property.name !== 'note',
  )
  const members = properties.map((property) => [
    property.name,
    { column: property.column.name, ...(property === secret ? { sensitive: true } : {}) },
  ])
  const definition = {
    mapping: name,
    table: table.path,
    key: key.map((property) => property.name),
    guard: { by: guard.by },
  }
  return resolveMapping(mappingDefinition.parse({ ...definition, properties: Object.fromEntries(members) }), 1, table)
}

/** What a mapping's types and functions are called, where nothing is in the way. */
function typeOf(name: string): string {
  return name
    .split(/[^\p{ID_Continue}]|_/u)
    .map((word) => word.charAt(0).toUpperCase() + word.slice(1))
    .join('')
}
