import fc from 'fast-check'
import { isProblem, mappingDefinition, parseJson, printJson, RawJson, type Json } from '@ledgerman/contract'
import {
  addRecord,
  changeRecord,
  loadRecord,
  parseKeyParts,
  prepareBook,
  resolveMapping,
  Target,
  type Mapping,
} from '@ledgerman/core'
import { makeDatabase, type TestDatabase } from '../../../../testing/databases.js'

const COLUMNS = {
  bool: 'boolean',
  int2: 'smallint',
  int4: 'integer',
  int8: 'bigint',
  float4: 'real',
  float8: 'double precision',
  numeric: 'numeric',
  hours: 'numeric(6,2)',
  money: 'money',
  text: 'text',
  short: 'varchar(6)',
  padded: 'char(4)',
  uuid: 'uuid',
  mood: 'mood',
  date: 'date',
  time: 'time',
  stamp: 'timestamp',
  instant: 'timestamptz',
  span: 'interval',
  bytes: 'bytea',
  json: 'json',
  jsonb: 'jsonb',
  ints: 'integer[]',
  words: 'text[]',
  grid: 'numeric(5,1)[]',
  moods: 'mood[]',
  blobs: 'bytea[]',
  instants: 'timestamptz[]',
  docs: 'jsonb[]',
  bits: 'bit(3)',
  host: 'inet',
  share: 'share',
  range: 'int4range',
} as const
type Name = keyof typeof COLUMNS

const text = fc.string({ unit: 'grapheme' }).map((each) => each.replaceAll('\0', ''))
const digits = fc
  .tuple(fc.bigInt({ min: -(10n ** 30n), max: 10n ** 30n }), fc.integer({ min: 0, max: 12 }))
  .map(([whole, scale]) => `${whole}${scale > 0 ? `.${'5'.repeat(scale)}` : ''}`)
const hours = fc.integer({ min: -999999, max: 999999 }).map((cents) => (cents / 100).toFixed(2))
const date = fc
  .date({ min: new Date('0001-01-01'), max: new Date('9999-12-31'), noInvalidDate: true })
  .map((day) => day.toISOString().slice(0, 10))
const clock = fc
  .tuple(fc.nat(23), fc.nat(59), fc.nat(59), fc.nat(999999))
  .map(
    ([h, m, s, us]) =>
      `${[h, m, s].map((part) => String(part).padStart(2, '0')).join(':')}${us ? `.${String(us).padStart(6, '0').replace(/0+$/, '')}` : ''}`,
  )
const instant = fc.oneof(
  fc.tuple(date, clock).map(([day, at]) => `${day}T${at}Z`),
  fc.constantFrom('infinity', '-infinity'),
)
const number = fc.oneof(
  fc.double({ noNaN: true, noDefaultInfinity: true }),
  fc.constantFrom('NaN', 'Infinity', '-Infinity', -0),
)
const bytes = fc.uint8Array().map((each) => Buffer.from(each).toString('base64'))
const json: fc.Arbitrary<Json> = fc.oneof(
  fc.jsonValue().map((value) => parseJson(JSON.stringify(value).replaceAll('\\u0000', '').replaceAll('-0', '0'))),
  fc
    .constantFrom('12345678901234567890.123', '0.10', '{"__proto__":{"a":1},"a":[1e400]}', '{"ledgerman:json":1}')
    .map((each) => new RawJson(each)),
)
const document = json.map((value): Json => (value === null ? { 'ledgerman:json': null } : value))
const mood = fc.constantFrom('calm', 'ti"red', "it's")
const list = <T>(of: fc.Arbitrary<T>) => fc.array(fc.option(of, { freq: 6 }), { maxLength: 4 })

const VALUES: Record<Name, fc.Arbitrary<unknown>> = {
  bool: fc.boolean(),
  int2: fc.integer({ min: -32768, max: 32767 }),
  int4: fc.integer(),
  int8: fc.bigInt({ min: -(2n ** 63n), max: 2n ** 63n - 1n }).map(String),
  float4: number
    .map((value) => (typeof value === 'number' ? Math.fround(value) : value))
    .filter((value) => typeof value !== 'number' || Number.isFinite(value)),
  float8: number,
  numeric: fc.oneof(digits, fc.constantFrom('NaN', 'Infinity', '1.000')),
  hours,
  money: hours,
  text,
  short: text.map((each) => [...each].slice(0, 6).join('')),
  padded: fc.constantFrom('ab', 'abcd', 'é'),
  uuid: fc.uuid(),
  mood,
  date: fc.oneof(date, fc.constantFrom('infinity', '0044-03-15 BC', '12026-01-01')),
  time: clock,
  stamp: fc.tuple(date, clock).map(([day, at]) => `${day}T${at}`),
  instant,
  span: fc.constantFrom('PT0S', 'P1Y2M3DT4H5M6.789S', 'P-1Y3DT-4H', 'PT-0.000001S'),
  bytes,
  json: document,
  jsonb: document,
  ints: list(fc.integer()),
  words: list(fc.oneof(text, fc.constantFrom('NULL', '', '{', '"', '\\', ',', ' a '))),
  grid: fc.constantFrom(
    [],
    [
      ['1.0', '-2.5'],
      ['3.1', null],
    ],
    ['9999.9'],
  ),
  moods: list(mood),
  blobs: list(bytes),
  instants: list(instant),
  docs: list(document.filter((value) => !Array.isArray(value))),
  bits: fc.constantFrom('000', '101'),
  host: fc.constantFrom('10.0.0.1', '::1', '192.168.0.0/16'),
  share: fc.constantFrom('0.25', '1.00'),
  range: fc.constantFrom('[1,5)', 'empty'),
}

let database: TestDatabase
let target: Target
let mapping: Mapping

beforeAll(async () => {
  database = await makeDatabase()
  await database.sql(`
    create type mood as enum ('calm', 'ti"red', 'it''s');
    create domain share as numeric(3,2) check (value between 0 and 1);
    create table kinds (id integer primary key, ${Object.entries(COLUMNS)
      .map(([name, type]) => `"${name}" ${type}`)
      .join(', ')});
    grant all on kinds to ledgerman_worker`)
  target = new Target({ name: 'kinds', url: database.url, digestKey: Buffer.from('k') })
  await prepareBook(target)
  const properties = Object.fromEntries(['id', ...Object.keys(COLUMNS)].map((name) => [name, { column: name }]))
  mapping = resolveMapping(
    mappingDefinition.parse({
      mapping: 'kinds',
      table: 'public.kinds',
      key: ['id'],
      guard: { by: 'rowStamp' },
      properties,
    }),
    1,
    await target.table('public.kinds'),
  )
})
afterAll(async () => {
  await target.close()
  await database.drop()
})

let nextId = 0
const commit = { mode: 'commit', actor: 'night-desk' } as const

/** As a client would see and send it: printed, and read again. */
const overTheWire = (values: Record<string, unknown>) => parseJson(printJson(values)) as Record<string, unknown>

describe('values', () => {
  it('of every kind are the same after load, save and load', async () => {
    const row = fc.record(
      Object.fromEntries(Object.entries(VALUES).map(([name, arbitrary]) => [name, fc.option(arbitrary, { freq: 8 })])),
    )
    await fc.assert(
      fc.asyncProperty(row, async (values) => {
        const id = String(++nextId)
        const key = parseKeyParts(mapping, [id])
        await addRecord(target, mapping, { values: overTheWire({ id: nextId, ...values }), ...commit })
        const loaded = await loadRecord(target, mapping, key)
        const { id: _id, ...rest } = overTheWire(loaded.record)
        const saved = await changeRecord(target, mapping, {
          key,
          values: rest,
          guard: { guards: [loaded.guard ?? ''] },
          ...commit,
        })
        const [before] = await database.sql('select kinds::text from kinds where id = $1', [id])
        expect(printJson(saved.record)).toBe(printJson(loaded.record))
        // Only json's own white space may differ, which is no value.
        const { changed } = saved.receipt.steps[0] ?? {}
        if (rest['json'] === null) expect(changed).toBe(0)
        expect(printJson((await loadRecord(target, mapping, key)).record)).toBe(printJson(loaded.record))
        expect(before).toBeDefined()
        for (const name of ['text', 'short', 'words', 'int8', 'hours', 'instant', 'bytes', 'mood', 'ints'] as const) {
          expect(printJson(loaded.record[name])).toBe(printJson(values[name]))
        }
      }),
      { numRuns: 60 },
    )
  }, 60_000)

  it('inside json keep digits past a double, also when only another property is changed', async () => {
    await database.sql(
      `insert into kinds (id, jsonb, json) values (1000001, '{"big": 12345678901234567890.10, "small": 1e-30}', '{"b": 1.00,  "a": 2}')`,
    )
    const key = parseKeyParts(mapping, ['1000001'])
    await changeRecord(target, mapping, { key, values: { text: 'other' }, guard: 'any', ...commit })
    await changeRecord(target, mapping, {
      key,
      values: { jsonb: { small: new RawJson('2.50') } },
      isMerge: true,
      guard: 'any',
      ...commit,
    })
    const [row] = await database.sql('select jsonb::text, json::text from kinds where id = 1000001')
    expect(row).toEqual({ jsonb: '{"big": 12345678901234567890.10, "small": 2.50}', json: '{"b": 1.00,  "a": 2}' })
  })

  it('are merged into json only where a patch names them', async () => {
    await database.sql(
      `insert into kinds (id, jsonb) values (1000002, '{"a": {"x": 1, "y": 2}, "b": [1, 2], "c": null}')`,
    )
    const patch = { a: { x: null, z: { deep: true } }, b: 'text', 'odd \'name" $1': 5 }
    const key = parseKeyParts(mapping, ['1000002'])
    const merged = await changeRecord(target, mapping, {
      key,
      values: { jsonb: patch },
      isMerge: true,
      guard: 'any',
      ...commit,
    })
    expect(parseJson((merged.record['jsonb'] as RawJson).text)).toEqual({
      a: { y: 2, z: { deep: true } },
      b: 'text',
      c: null,
      'odd \'name" $1': 5,
    })
    expect(merged.receipt.steps[0]?.statement).not.toMatch(/odd|deep/)
  })

  const LOSSY: [Name, unknown, RegExp][] = [
    ['hours', '1.005', /at most 2 digits behind/],
    ['hours', '10000', /at most 4 digits before/],
    ['numeric', 'twelve', /a number/],
    ['int4', 1.5, /whole number/],
    ['int2', 40000, /-32768 to 32767/],
    ['int8', '9223372036854775808', /whole number/],
    ['float4', 1e300, /range of the column/],
    ['short', 'too long', /at most 6 characters/],
    ['padded', 'abcde', /at most 4/],
    ['bits', '10', /exactly 3 bits/],
    ['text', 'a\0b', /U\+0000/],
    ['text', '\ud800', /surrogate/],
    ['text', 5, /a string/],
    ['json', { a: '\0' }, /U\+0000/],
    ['bytes', 'A?', /base64/],
    ['mood', 'angry', /one of "calm"/],
    ['bool', 'true', /true or false/],
    ['instant', '2026-03-01T21:30:00', /with its zone/],
    ['time', '21:30:00.1234567', /at most 6 digits/],
    ['date', 'tomorrow', /a date/],
    ['date', '2026-02-30', /date\/time field value out of range/],
    ['uuid', 'P-107', /invalid input syntax for type uuid/],
    ['ints', [[1], [2, 3]], /equal length/],
    ['ints', [[]], /no empty array inside/],
    ['ints', [1, 'two'], /each element to be a whole number/],
    ['words', 'one', /an array/],
    ['share', '1.50', /domain/],
    ['money', '1.005', /two digits/],
  ]
  it.each(LOSSY)('that would be lost in %s are refused by name: %j', async (name, value, words) => {
    const refusal = await addRecord(target, mapping, { values: { id: ++nextId, [name]: value }, ...commit }).catch(
      (error: unknown) => error,
    )
    expect(isProblem(refusal)).toBe(true)
    expect((refusal as Error).message).toMatch(words)
    expect((refusal as { facts: { properties: string[] } }).facts.properties).toContain(name)
  })

  it('refuses an array that begins elsewhere than at 1, by name', async () => {
    await database.sql(`insert into kinds (id, ints) values (1000003, '[0:1]={7,8}')`)
    await expect(loadRecord(target, mapping, parseKeyParts(mapping, ['1000003']))).rejects.toThrow(
      /ints cannot be shown without loss/,
    )
  })

  it('counts another scale, letter case or sign of zero as a change', async () => {
    await database.sql(`insert into kinds (id, numeric, float8) values (1000004, 1.0, 0)`)
    const key = parseKeyParts(mapping, ['1000004'])
    const set = async (values: Record<string, unknown>) =>
      (await changeRecord(target, mapping, { key, values, guard: 'any', ...commit })).receipt.steps[0]?.changed
    expect(await set({ numeric: '1.00' })).toBe(1)
    expect(await set({ numeric: '1.00' })).toBe(0)
    expect(await set({ float8: -0 })).toBe(1)
    expect(await set({ float8: new RawJson('-0.0') })).toBe(0)
  })
})
