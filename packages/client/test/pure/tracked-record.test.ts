import fc from 'fast-check'
import { parseJson, printJson, RawJson, type Json } from '@ledgerman/contract'
import { toPlain } from '../../src/plain-value.js'
import { TrackedRecord } from '../../src/draft/tracked-record.js'

const names = fc.constantFrom('title', 'hours', 'tags', 'settings')
// As it is read: a zero with a sign is no number then.
const anyJson = fc.jsonValue({ maxDepth: 3 }).map((value): Json => parseJson(printJson(value)))
const anyRecord = fc.dictionary(names, anyJson, { minKeys: 1 })
const same = (one: unknown, other: unknown) =>
  one === undefined || other === undefined ? one === other : printJson(one) === printJson(other)

describe('a tracked record', () => {
  it('has as changes what was assigned and differs, and none once they have arrived', () => {
    fc.assert(
      fc.property(anyRecord, anyRecord, (loaded, assigned) => {
        const record = new TrackedRecord('m', { id: 1 }, loaded, 'v1')
        expect(record.changes()).toEqual({})
        Object.assign(record.object, assigned)
        const changes = record.changes()
        for (const [name, value] of Object.entries(assigned))
          if (!same(value, loaded[name])) expect(same(changes[name], value)).toBe(true)
        for (const name of Object.keys(changes)) expect(same(changes[name], loaded[name])).toBe(false)
        record.settle(changes, {}, 'v2')
        expect([record.changes(), record.guard]).toEqual([{}, 'v2'])
      }),
    )
  })

  it('keeps what is assigned after it was sent, and takes what the database made of the rest', () => {
    fc.assert(
      fc.property(anyRecord, anyRecord, anyRecord, anyRecord, (loaded, first, since, written) => {
        const record = new TrackedRecord('m', { id: 1 }, loaded, 'v1')
        Object.assign(record.object, first)
        const sent = record.changes()
        Object.assign(record.object, since)
        record.settle(sent, written, 'v2')
        const arrived: Record<string, unknown> = { ...loaded, ...sent, ...written }
        for (const [name, value] of Object.entries(record.object)) {
          const isPending = name in since && !same(since[name], sent[name]) && !same(since[name], loaded[name])
          if (isPending) expect(same(value, since[name])).toBe(true)
          else if (!(name in since)) expect(same(value, arrived[name])).toBe(true)
        }
        for (const name of Object.keys(record.changes())) expect(name in since).toBe(true)
      }),
    )
  })

  it('is not changed by what callers do to the values they gave, nested ones too', () => {
    const loaded = { settings: { list: [1, { a: 'x' }] } }
    const record = new TrackedRecord('m', { id: 1 }, loaded, null)
    loaded.settings.list.push(2)
    expect(record.changes()).toEqual({})
    const object = record.object as typeof loaded
    ;(object.settings.list[1] as { a: string }).a = 'y'
    expect(record.changes()).toEqual({ settings: { list: [1, { a: 'y' }] } })
    delete (record.object as Record<string, unknown>)['settings']
    expect(() => record.changes()).toThrow(/settings was deleted/)
  })

  it('is not changed by a zero with the sign that it was read with', () => {
    const record = new TrackedRecord('m', { id: 1 }, { depth: parseJson('-0') }, null)
    const object = record.object as Record<string, unknown>
    object['depth'] = -0
    expect(record.changes()).toEqual({})
    object['depth'] = 0
    expect(record.changes()).toEqual({ depth: 0 })
  })
})

describe('a plain value', () => {
  it('is any JSON value, digit by digit', () => {
    fc.assert(
      fc.property(anyJson, (value) => {
        expect(printJson(toPlain('p', value))).toBe(printJson(value))
      }),
    )
    const exact = parseJson('{"n": 12345678901234567890.10, "z": [1.00]}')
    expect(printJson(toPlain('p', exact))).toBe('{"n":12345678901234567890.10,"z":[1.00]}')
    expect(printJson(toPlain('p', [2n ** 70n, NaN, -Infinity, new Date(0), -0, { gone: undefined, kept: null }]))).toBe(
      '[1180591620717411303424,"NaN","-Infinity","1970-01-01T00:00:00.000Z",-0,{"kept":null}]',
    )
    expect(toPlain('p', new RawJson('1.0'))).toEqual(new RawJson('1.0'))
    expect(printJson(toPlain('p', Object.assign(Object.create(null) as object, { a: 1 })))).toBe('{"a":1}')
  })

  it.each([
    undefined,
    () => 1,
    Symbol('s'),
    new Map(),
    new Set([1]),
    new Uint8Array(1),
    /x/,
    [undefined],
    { a: [new Map()] },
  ])('is not %p, which is refused by name', (value) => {
    expect(() => toPlain('tags', value)).toThrow(
      /^value-invalid: tags[.\w]*: expected a value that JSON can carry, got/,
    )
  })
})
