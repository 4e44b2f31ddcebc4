import fc from 'fast-check'
import { parseJson, RawJson, type Json } from '@ledgerman/contract'

/** A column of each kind, by name. */
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
export type KindName = keyof typeof COLUMNS

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

/** Values of each kind, as callers say them. */
const VALUES: Record<KindName, fc.Arbitrary<unknown>> = {
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

/** Makes a table with a column of each kind behind `id`, and what it needs. */
export const KINDS_DDL = `create type mood as enum ('calm', 'ti"red', 'it''s');
create domain share as numeric(3,2) check (value between 0 and 1);
create table kinds (id integer primary key, ${Object.entries(COLUMNS)
  .map(([name, type]) => `"${name}" ${type}`)
  .join(', ')})`

/** The properties of a mapping of that table. */
export const KINDS_PROPERTIES = Object.fromEntries(
  ['id', ...Object.keys(COLUMNS)].map((name) => [name, { column: name }]),
)

/** A record of that table without its key: each value now and then null. */
export const kindsRecord = fc.record(
  Object.fromEntries(Object.entries(VALUES).map(([name, arbitrary]) => [name, fc.option(arbitrary, { freq: 8 })])),
)
