import {
  addRecord,
  changeRecord,
  loadRecord,
  parseKeyParts,
  patchRecord,
  removeRecord,
  replaceRecord,
  resolveMapping,
  type Mapping,
  type Target,
} from '@ledgerman/core'
import type { TestDatabase } from '../../../../testing/databases.js'
import { codeOf, openOwnTables, type OwnTables } from '../../../../testing/own-tables.js'

let own: OwnTables
let database: TestDatabase
let target: Target
const commit = { mode: 'commit', actor: 'night-desk' } as const
const mapped: OwnTables['mapped'] = (...words) => own.mapped(...words)

beforeAll(async () => {
  own = await openOwnTables({}, {}, { isTrapped: true })
  ;({ database, target } = own)
})
afterAll(() => own.close())

describe('the verbs', () => {
  let mapping: Mapping
  beforeAll(async () => {
    mapping = await mapped(
      'public.camera',
      `create table camera (code text primary key, name text not null, pixels integer check (pixels > 0), settings jsonb, row_version integer not null default 1, made timestamptz not null default now());
       create table mount (camera text references camera (code)); insert into camera values ('C1', 'First', 100, '{"gain": 1}'), ('C2', 'Second', 200, null), ('C3', 'Third', 300, null); insert into mount values ('C3')`,
      {
        guard: { by: 'version', property: 'rowVersion' },
        properties: {
          code: { column: 'code', fixed: true },
          name: { column: 'name' },
          pixels: { column: 'pixels' },
          settings: { column: 'settings' },
          rowVersion: { column: 'row_version' },
          made: { column: 'made', fixed: true },
        },
        rules: [
          {
            that: `pixels is null or pixels <= 1000 and name <> 'Forbidden'`,
            otherwise: 'A camera has at most 1000 pixels.',
          },
        ],
      },
    )
  })
  const key = (code: string) => parseKeyParts(mapping, [code])

  it('replace every property, and name those that would have been lost', async () => {
    const loaded = await loadRecord(target, mapping, key('C1'))
    const refusal = await replaceRecord(target, mapping, {
      key: key('C1'),
      values: { name: 'x' },
      guard: { guards: ['v1'] },
      ...commit,
    }).catch((error: unknown) => error)
    expect(refusal).toMatchObject({ code: 'request-invalid', facts: { lost: ['pixels', 'settings'] } })
    const replaced = await replaceRecord(target, mapping, {
      key: key('C1'),
      values: { ...loaded.record, pixels: null, settings: null },
      guard: { guards: ['v1'] },
      ...commit,
    })
    expect(replaced.record).toMatchObject({ code: 'C1', name: 'First', pixels: null, settings: null, rowVersion: 2 })
    // What cannot be set has to be as it is.
    expect(
      await codeOf(
        replaceRecord(target, mapping, {
          key: key('C1'),
          values: { ...replaced.record, made: '2020-01-01T00:00:00Z' },
          guard: { guards: ['v2'] },
          ...commit,
        }),
      ),
    ).toBe('record-changed')
    expect(
      await codeOf(
        replaceRecord(target, mapping, {
          key: key('C1'),
          values: { ...replaced.record, code: 'C9' },
          guard: { guards: ['v2'] },
          ...commit,
        }),
      ),
    ).toBe('request-invalid')
  })

  it('add with defaults, and remove with the values kept in the book', async () => {
    const rehearsed = await addRecord(target, mapping, {
      values: { code: 'C8', name: 'New' },
      mode: 'rehearse',
      actor: 'night-desk',
    })
    expect(rehearsed).toMatchObject({
      record: { code: 'C8', rowVersion: 1 },
      guard: null,
      receipt: { outcome: 'rehearsed' },
    })
    const added = await addRecord(target, mapping, { values: { code: 'C8', name: 'New' }, ...commit })
    expect(added.receipt.steps[0]).toMatchObject({
      kind: 'add',
      matched: 1,
      changed: 1,
      rows: [{ key: { code: 'C8' }, before: null, after: { name: 'New' } }],
    })
    expect(await codeOf(addRecord(target, mapping, { values: { code: 'C8', name: 'Again' }, ...commit }))).toBe(
      'constraint-broken',
    )
    expect(await codeOf(removeRecord(target, mapping, { key: key('C8'), guard: { guards: ['v7'] }, ...commit }))).toBe(
      'record-changed',
    )
    const removed = await removeRecord(target, mapping, {
      key: key('C8'),
      guard: { guards: [added.guard ?? ''] },
      ...commit,
    })
    expect(removed.receipt.steps[0]).toMatchObject({
      kind: 'remove',
      changed: 1,
      rows: [{ before: { name: 'New' }, after: null }],
    })
    expect(await own.lastEntry()).toMatchObject({
      kind: 'remove',
      key: { code: 'C8' },
      before: { name: 'New', row_version: '1' },
      after: null,
    })
    expect(await codeOf(removeRecord(target, mapping, { key: key('C8'), guard: { guards: ['v1'] }, ...commit }))).toBe(
      'no-such-record',
    )
    const referred = await removeRecord(target, mapping, { key: key('C3'), guard: 'any', ...commit }).catch(
      (error: unknown) => error,
    )
    expect(referred).toMatchObject({ code: 'constraint-broken', facts: { kind: 'still-referenced' } })
  })

  it('hold every write to the mapping’s rules', async () => {
    const refusal = await changeRecord(target, mapping, {
      key: key('C2'),
      values: { pixels: 5000 },
      guard: 'any',
      ...commit,
    }).catch((error: unknown) => error)
    expect(refusal).toMatchObject({ code: 'rule-broken', detail: 'A camera has at most 1000 pixels.' })
    expect(
      await codeOf(
        changeRecord(target, mapping, {
          key: key('C2'),
          values: { pixels: 5000 },
          guard: 'any',
          mode: 'rehearse',
          actor: 'x',
        }),
      ),
    ).toBe('rule-broken')
    expect(
      await codeOf(addRecord(target, mapping, { values: { code: 'C7', name: 'Forbidden', pixels: 1 }, ...commit })),
    ).toBe('rule-broken')
    expect(await database.sql(`select pixels, row_version from camera where code = 'C2'`)).toEqual([
      { pixels: 200, row_version: 1 },
    ])
    expect(() =>
      resolveMapping({ ...mapping.definition, rules: [{ that: 'pixel > 0', otherwise: 'x' }] }, 1, mapping.table),
    ).toThrow(/Unknown name pixel at character \d+\. Did you mean pixels/)
    expect(() =>
      resolveMapping({ ...mapping.definition, rules: [{ that: 'pixels = null', otherwise: 'x' }] }, 1, mapping.table),
    ).toThrow(/use is null/)
  })

  it('patch by operations, with test as a compare-and-set', async () => {
    await database.sql(`update camera set settings = '{"gain": 1.50, "filters": ["u", "g"]}' where code = 'C2'`)
    const patch = (operations: Parameters<typeof patchRecord>[2]) =>
      patchRecord(target, mapping, operations, { key: key('C2'), guard: 'any', ...commit })
    const patched = await patch([
      { op: 'test', path: '/settings/gain', value: 1.5 },
      { op: 'replace', path: '/name', value: 'Patched' },
      { op: 'add', path: '/settings/filters/-', value: 'r' },
      { op: 'remove', path: '/settings/filters/0' },
      { op: 'copy', from: '/settings/gain', path: '/settings/lastGain' },
    ])
    expect(patched.record).toMatchObject({ name: 'Patched' })
    expect(await database.sql(`select settings::text from camera where code = 'C2'`)).toEqual([
      { settings: '{"gain": 1.50, "filters": ["g", "r"], "lastGain": 1.50}' },
    ])
    expect(
      await codeOf(
        patch([
          { op: 'test', path: '/name', value: 'Second' },
          { op: 'replace', path: '/pixels', value: 1 },
        ]),
      ),
    ).toBe('record-changed')
    expect(await codeOf(patch([{ op: 'replace', path: '/settings/nowhere/x', value: 1 }]))).toBe('request-invalid')
    expect(await codeOf(patch([{ op: 'replace', path: '/nmae', value: 1 }]))).toBe('request-invalid')
    expect(
      await codeOf(
        changeRecord(target, mapping, {
          key: key('C2'),
          values: { pixels: 7 },
          loaded: { name: 'Second' },
          guard: 'any',
          ...commit,
        }),
      ),
    ).toBe('record-changed')
  })
})
