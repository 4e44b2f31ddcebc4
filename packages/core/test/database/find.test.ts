import fc from 'fast-check'
import { loadModule, parseSync } from 'libpg-query'
import { isProblem, type Json, type RecordValues } from '@ledgerman/contract'
import { explainFind, exportRecords, findOne, findRecords, parseExpression, type Mapping } from '@ledgerman/core'
import { prepareFind } from '../../src/run/find/find-records.js'
import { readFindRequest } from '../../src/run/find/find-request.js'
import { parseOrder } from '../../src/statement/order.js'
import { followLinks } from '../../src/mapping/links.js'
import { buildFind } from '../../src/statement/build-find.js'
import { openOwnTables, type OwnTables } from '../../../../testing/own-tables.js'
import { anyCondition, type Row } from '../expressions.js'

let own: OwnTables
let star: Mapping
let site: Mapping
const findMapping = (name: string) => Promise.resolve(name === 'site' ? site : star)
const find = (where?: string, more: object = {}) =>
  findRecords(own.target, star, { where, limit: 1000, ...more }, findMapping)
const problemOf = async (work: Promise<unknown>) => {
  const error: unknown = await work.then(
    () => null,
    (reason: unknown) => reason,
  )
  if (isProblem(error)) return error
  throw new Error(`expected a problem, got ${String(error)}`)
}

beforeAll(async () => {
  await loadModule()
  own = await openOwnTables({}, {}, { isTrapped: true })
  site = await own.mapped(
    'public.site',
    `create table site (id integer primary key, name text not null, above integer references site (id));
    insert into site values (1, 'Fell', null), (2, 'Knott', 1), (3, 'Tarn', 2)`,
    {
      mapping: 'site',
      links: { parent: { mapping: 'site', on: { above: 'id' } } },
    },
  )
  star = await own.mapped(
    'public.star',
    `create table star (id integer primary key, n integer, word text, exact numeric(8,3), flag boolean, site_id integer references site (id));
     insert into star select i, nullif(i * 7919 % 23, 0), case when i % 5 = 0 then null else 'w' || i * 31 % 17 end, nullif((i * 13 % 40) / 8.0, 0),
       case i % 3 when 0 then null when 1 then true else false end, nullif(i % 4, 0) from generate_series(1, 120) i; analyze star`,
    {
      links: { site: { mapping: 'site', on: { siteId: 'id' } }, same: { mapping: 'star', many: { siteId: 'siteId' } } },
    },
  )
})
afterAll(() => own.close())

describe('words that differ in literals only', () => {
  it('are one statement, which is prepared, with values of their own', async () => {
    const read = (where: string) => readFindRequest(star, { where }, false, findMapping, false)
    const asked = [`n > 7 and word = 'w4'`, `n > 11 and word = 'w7'`, `n > 11 and word <> 'w7'`]
    const finds = []
    for (const where of asked) finds.push(prepareFind(own.target, star, { limit: 10 }, await read(where)))
    expect(finds.map(({ isPrepared }) => isPrepared)).toEqual([false, true, false])
    expect(finds[1]?.values).toEqual(['11', 'w7', '11'])
    expect(finds[1]?.statement).toBe(finds[0]?.statement)
  })

  it('find what each asks for, and are told of their own mistakes', async () => {
    const idsOf = async (where: string) => (await find(where)).found.map((record) => record['id'])
    for (const n of [3, 9, 22, 1e9, 12345678901])
      expect(await idsOf(`n > ${n} or word = 'w${n}'`)).toEqual(
        (await own.database.sql(`select id from star where n > ${n} or word = 'w${n}' order by id`)).map(
          ({ id }) => id,
        ),
      )
    expect(await idsOf(`exact = 1 and flag`)).toEqual(await idsOf(`exact = 1.000 and flag`))
    await find(`n / 4 > 2`)
    await find(`n / 5 > 1`)
    expect((await problemOf(find(`n / 0 > 3`))).code).toBe('value-invalid')
    const dates = [`cast('2026-01-05' as date) < cast('2026-02-01' as date)`, `cast('2026-13-05' as date) is null`]
    expect(await idsOf(dates[0] ?? '')).toHaveLength(120)
    expect((await problemOf(find(dates[1]))).detail).toContain('2026-13-05')
  })
})

describe('an expression', () => {
  it('finds the same rows as an evaluation of its own, and never holds a literal in its text', async () => {
    const rows = (await own.database.sql(
      'select id, n, word, exact::float8 as exact, flag from star order by id',
    )) as unknown as Row[]
    await fc.assert(
      fc.asyncProperty(anyCondition, async ({ source, evaluate, literals }) => {
        const { found } = await find(source)
        expect(found.map((record) => record['id'])).toEqual(
          rows.filter((row) => evaluate(row) === true).map(({ id }) => id),
        )
        const expression = parseExpression(source)
        const links = await followLinks(star, [expression], [], findMapping)
        const shape = { where: { label: 'where', source, expression }, properties: null, order: [], guarded: false }
        const { statement } = buildFind(star, shape, links, 'start')
        for (const literal of literals) expect(statement.text).not.toContain(literal)
        expect(parseSync(statement.text).stmts).toHaveLength(1)
      }),
      { numRuns: 150 },
    )
  })

  it.each([
    [`site.parent.name = 'Fell'`, 30],
    [`site.name like 'K%' and n is not null`, 29],
    [`site.id is null`, 30],
    [`exists(same where id < 4) and id > 100`, 15],
    [`count(same where flag is true) >= 10`, 90],
    [`not exists(same)`, 30],
    [`case when n > 20 then 'high' else 'low' end = 'high' or round(exact, 0) = 5`, null],
    [`length(word || 'x') = 3 and upper(left(word, 1)) = 'W'`, null],
  ])('follows links and calls functions: %s', async (source, rows) => {
    const { found } = await find(source)
    if (rows === null) expect(found.length).toBeGreaterThan(0)
    else expect(found).toHaveLength(rows)
  })

  it.each<[string, RegExp]>([
    ['n = word', /integer = text.*character 3/s],
    [`n > 'much'`, /Expected integer, got 'much', at character 5/],
    ['word', /condition is.*boolean.*character 1/s],
    ['lower(n) = 1', /lower\(integer\).*character 1/s],
    ['id > 1 and site.nam = 1', /nam is no property of site at character 12\. Did you mean name\?/],
    ['stie.name = 1', /Unknown name stie\.name at character 1\. (?:Did you mean|Valid names)/],
    ['same.id = 1', /leads to many of star; name it inside exists/],
    ['site = 1', /leads to a record; name one of its properties/],
    ['exists(site)', /leads to one record/],
    ['n in (1, null)', /is null beside it/],
    ['word.x = 1', /is a property of star, not a link/],
    ['changed(x) = 1', /no steps here/],
    [`site.${'parent.'.repeat(100)}id = 1`, /More than 100 links to one record/],
    ['word = bird', /Unknown name bird at character 8\. A text stands in single quotes: 'bird'\. Valid names: /],
    ['now > now()', /Unknown name now at character 1\. now is a function: now\(\)/],
    ['length(word, 3) = 1', /length takes 1 argument, not 2, at character 1/],
    ['word = "w"', /Unknown name w at character 8\. A text stands in single quotes: 'w'/],
    ['word not ilike 3', /text ilike integer, at character 10/],
    ['extract(yeaar from now()) = 1', /no field yeaar at character 9\. Did you mean year/],
    [`date_trunc('foo', now()) is null`, /no field foo at character 13/],
  ])('is refused with its place: %s', async (source, words) => {
    const { code, detail, facts } = await problemOf(find(source))
    expect([code, detail]).toEqual(['expression-invalid', expect.stringMatching(words)])
    expect(facts).toMatchObject({
      position: expect.any(Number) as number,
      excerpt: expect.stringMatching(/\^$/) as string,
    })
  })

  it('takes values by name, typed by what they are compared with, and lists', async () => {
    const bind = { least: '20', words: ['w3', 'w5'], flag: true }
    const { found } = await find('(n >= :least or word in :words) and flag = :flag', { bind })
    expect(found.length).toBeGreaterThan(0)
    expect((await problemOf(find('n = :a'))).facts).toMatchObject({ parameter: 'a' })
    expect((await problemOf(find('n = 1', { bind: { a: 1 } }))).detail).toMatch(/does not name :a/)
    expect((await problemOf(find('n = :a', { bind: { a: 'x' } }))).detail).toMatch(/:a: expected .*got "x"/)
    expect((await problemOf(find('n not in :a', { bind: { a: [1, null] } }))).detail).toMatch(/without null/)
    const keysOf = async (source: string) => (await find(source, { bind: { words: bind.words } })).found
    expect(await keysOf('word = any(:words) and n > 0')).toEqual(await keysOf('word in :words and n > 0'))
    expect(await keysOf('word <> all(:words)')).toEqual(await keysOf('word not in :words'))
    expect((await problemOf(find(`'w3' = any(word)`))).detail).toMatch(/Expected an array: .*at character 12/)
  })
})

describe('values of every kind', () => {
  it('can be compared, bound and ordered by, each in its JSON form', async () => {
    const all: [name: string, type: string, value: Json][] = [
      ['aBoolean', 'boolean', true],
      ['aSmallint', 'smallint', 3],
      ['aBigint', 'bigint', '9007199254740993'],
      ['aNumeric', 'numeric(20,4)', '1.2500'],
      ['aMoney', 'money', '12.50'],
      ['aReal', 'real', 0.1],
      ['aDouble', 'double precision', 'NaN'],
      ['aText', 'text', `it's "$1" :x \\ é`],
      ['aChar', 'char(4)', 'ab  '],
      ['aUuid', 'uuid', '0b8f3a52-6f0d-4b6e-9d0a-0d7d2a3f4c11'],
      ['aDate', 'date', 'infinity'],
      ['aTime', 'time', '12:30:00.5'],
      ['aStamp', 'timestamptz', '2026-02-03T04:05:06.123456Z'],
      ['anInterval', 'interval', 'P1DT2H'],
      ['aBytea', 'bytea', 'AQID'],
      ['aJsonb', 'jsonb', { a: [1, null] }],
      ['anArray', 'text[]', ['a,b', null, 'c"d']],
      ['anInet', 'inet', '10.0.0.1'],
    ]
    const columns = all.map(([name, type]) => `${name.toLowerCase()} ${type}`).join(', ')
    const mapping = await own.mapped('public.sample', `create table sample (id integer primary key, ${columns})`, {
      properties: Object.fromEntries([
        ['id', { column: 'id' }],
        ...all.map(([name]) => [name, { column: name.toLowerCase() }]),
      ]) as never,
    })
    const { addRecord } = await import('@ledgerman/core')
    const run = { mode: 'commit' as const, actor: 'test' }
    await addRecord(own.target, mapping, {
      values: { id: 1, ...Object.fromEntries(all.map(([name, , value]) => [name, value])) },
      ...run,
    })
    await addRecord(own.target, mapping, { values: { id: 2 }, ...run })
    for (const [name, , value] of all) {
      const page = (request: object) => findRecords(own.target, mapping, { limit: 1, ...request }, findMapping)
      expect({
        name,
        found: (await page({ where: `${name} = :v`, bind: { v: value } })).found.map((each) => each['id']),
      }).toEqual({ name, found: [1] })
      const first = await page({ order: `${name} desc nulls last` })
      expect(first.found[0]?.['id']).toBe(1)
      const second = await page({ order: `${name} desc nulls last`, after: first.next ?? '' })
      expect(second).toMatchObject({ found: [{ id: 2 }], next: null })
    }
  })
})

describe('pages', () => {
  const someOrder = fc.uniqueArray(
    fc.record({
      path: fc.constantFrom('n', 'word', 'exact', 'flag', 'id', 'site.name', 'site.parent.name'),
      direction: fc.constantFrom('', ' asc', ' desc'),
      nulls: fc.constantFrom('', ' nulls first', ' nulls last'),
    }),
    { selector: ({ path }) => path, maxLength: 3 },
  )

  it('put together give every row once, in whatever order, nulls included', async () => {
    await fc.assert(
      fc.asyncProperty(someOrder, fc.integer({ min: 7, max: 50 }), async (terms, limit) => {
        const order = terms.map(({ path, direction, nulls }) => path + direction + nulls).join(', ')
        const whole = await find(undefined, { order })
        const seen: unknown[] = []
        let after: string | undefined
        do {
          const page = await find(undefined, { order, limit, after })
          seen.push(...page.found.map((record) => record['id']))
          after = page.next ?? undefined
        } while (after !== undefined)
        expect(seen).toEqual(whole.found.map((record) => record['id']))
        expect(new Set(seen).size).toBe(120)
      }),
      { numRuns: 30 },
    )
  })

  it('neither skip nor repeat a row while others write', async () => {
    const order = 'n desc, word'
    const first = await find('id <= 120', { order, limit: 40 })
    await own.database.sql(
      `insert into star select 1000 + i, 22, 'a', 1, true, 1 from generate_series(1, 30) i; delete from star where id = ${String(first.found[5]?.['id'])}`,
    )
    const rest = await find('id <= 120', { order, limit: 1000, after: first.next ?? '' })
    const ids = [...first.found, ...rest.found].map((record) => record['id'])
    expect([ids.length, new Set(ids).size]).toEqual([120, 120])
    await own.database.sql('delete from star where id > 1000')
  })

  it('of a table without a key go by place, and a cursor of another order is refused', async () => {
    const feed = await own.mapped(
      'public.feed',
      'create table feed (v integer); insert into feed select i / 3 from generate_series(1, 50) i',
    )
    const page = (after?: string) => findRecords(own.target, feed, { limit: 20, order: 'v desc', after }, findMapping)
    const pages = [await page()]
    while (pages.at(-1)?.next) pages.push(await page(pages.at(-1)?.next ?? ''))
    expect(pages.flatMap(({ found }) => found)).toHaveLength(50)
    expect(
      (await problemOf(findRecords(own.target, feed, { limit: 5, after: pages[0]?.next ?? '' }, findMapping))).facts,
    ).toMatchObject({ where: 'after' })
    expect(() => parseOrder('v upwards')).toThrow(/expected a property, then asc or desc/)
  })
})

describe('exactly one', () => {
  it('gives the record with its guard, says none, or shows what tells several apart', async () => {
    const request = { where: `word = :w and id < 15`, bind: { w: 'w14' } }
    expect(await findOne(own.target, star, request, findMapping)).toMatchObject({
      record: { id: 1 },
      guard: expect.stringMatching(/^s\d+$/) as string,
    })
    expect((await problemOf(findOne(own.target, star, { where: 'id = 0' }, findMapping))).code).toBe('no-such-record')
    const several = await problemOf(findOne(own.target, star, { where: `word = 'w14'` }, findMapping))
    expect(several).toMatchObject({ code: 'record-ambiguous', facts: { expected: 'one', matched: 6 } })
    const candidates = several.facts['candidates'] as RecordValues[]
    expect(candidates).toHaveLength(5)
    expect(Object.keys(candidates[0] ?? {})).toEqual(expect.arrayContaining(['id', 'n']))
    expect(candidates[0]).not.toHaveProperty('word')
  })
})

describe('a find', () => {
  it('says beforehand whether an index serves', async () => {
    await own.database.sql(
      `create table big as select i as id, i % 1000 as n from generate_series(1, 20000) i; alter table big add primary key (id); analyze big`,
    )
    const big = await own.mapped('public.big', 'select 1')
    const explain = (where: string) => explainFind(own.target, big, { where, limit: 10 }, findMapping)
    expect(await explain('id = 5')).toMatchObject({
      index: 'serves',
      binds: expect.arrayContaining([{ position: 1, name: 'where', type: 'integer', value: '5' }]) as unknown,
    })
    expect((await explain('n + 1 = 7')).message).toMatch(/Goes through big in the order of the index|no index/)
    expect(await findRecords(own.target, big, { where: 'n = 3', limit: 1, count: 'all' }, findMapping)).toMatchObject({
      count: 20,
      isEstimate: false,
    })
    const { count, isEstimate } = await findRecords(own.target, big, { limit: 1, count: 'about' }, findMapping)
    expect([count, isEstimate]).toEqual([20000, true])
  })

  it('cannot write, and is cancelled in the database when its caller goes away, and nobody else is', async () => {
    await expect(own.target.readOnly(`insert into site values (9, 'x')`, [])).rejects.toMatchObject({ code: '25006' })
    const others = Array.from({ length: 20 }, () => own.target.readOnly('select pg_sleep(0.15)', []))
    const gone = new AbortController()
    const slow = own.target.readOnly('select pg_sleep(20)', [], gone.signal)
    setTimeout(() => gone.abort(), 50)
    expect((await problemOf(slow)).code).toBe('cancelled')
    await Promise.all(others)
    const running = await own.database.sql(
      `select 1 from pg_stat_activity where query like '%pg_sleep(20)%' and state = 'active' and pid <> pg_backend_pid()`,
    )
    expect(running).toEqual([])
  })

  it('exports everything as it was at one moment, batch by batch, and stops when nobody takes more', async () => {
    const { columns, batches } = await exportRecords(
      own.target,
      star,
      { properties: 'id,site.name', order: 'id', form: 'ndjson', withGuard: false },
      findMapping,
    )
    const records: RecordValues[] = []
    for await (const batch of batches) records.push(...(batch as RecordValues[]))
    expect([columns, records.length, records[3]]).toEqual([['id', 'site.name'], 119, { id: 4, site: null }])
    const again = await exportRecords(own.target, star, { form: 'csv', withGuard: false }, findMapping)
    for await (const batch of again.batches) if (batch.length > 0) break
    expect(
      await own.database.sql(
        `select 1 from pg_stat_activity where datname = current_database() and state like 'idle in transaction%'`,
      ),
    ).toEqual([])
  })
})
