import fc from 'fast-check'
import { isProblem, mappingDefinition, parseJson, printJson, RawJson } from '@ledgerman/contract'
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
import { KINDS_DDL, KINDS_PROPERTIES, kindsRecord, type KindName } from '../../../../testing/every-kind.js'

let database: TestDatabase
let target: Target
let mapping: Mapping

beforeAll(async () => {
  database = await makeDatabase()
  await database.sql(`${KINDS_DDL}; grant all on kinds to ledgerman_worker`)
  target = new Target({ name: 'kinds', url: database.url, digestKey: Buffer.from('k') })
  await prepareBook(target)
  mapping = resolveMapping(
    mappingDefinition.parse({
      mapping: 'kinds',
      table: 'public.kinds',
      key: ['id'],
      guard: { by: 'rowStamp' },
      properties: KINDS_PROPERTIES,
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
    await fc.assert(
      fc.asyncProperty(kindsRecord, async (values) => {
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
  })

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

  const LOSSY: [KindName, unknown, RegExp][] = [
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

  it('counts as a change what its own type, or its collation, holds for the same', async () => {
    await database.sql(`create collation any_case (provider = icu, locale = 'und-u-ks-level2', deterministic = false);
      create table alike (id integer primary key, band text collate any_case, span interval, zone timetz, plain text);
      insert into alike values (1, 'r', '1 day', '12:00+00', 'r'); grant all on alike to ledgerman_worker`)
    const names = ['id', 'band', 'span', 'zone', 'plain']
    const alike = mappingDefinition.parse({
      mapping: 'alike',
      table: 'public.alike',
      key: ['id'],
      guard: { by: 'rowStamp' },
      properties: Object.fromEntries(names.map((name) => [name, { column: name }])),
    })
    const ofAlike = resolveMapping(alike, 1, await target.table('public.alike'))
    const values = { band: 'R', span: 'PT24H', zone: '13:00+01', plain: 'R' }
    for (const [name, value] of Object.entries(values)) {
      const input = { key: parseKeyParts(ofAlike, ['1']), values: { [name]: value }, guard: 'any' as const, ...commit }
      const [first, again] = [await changeRecord(target, ofAlike, input), await changeRecord(target, ofAlike, input)]
      expect([name, first.receipt.steps[0]?.changed, again.receipt.steps[0]?.changed]).toEqual([name, 1, 0])
    }
  })
})
