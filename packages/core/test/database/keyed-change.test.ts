import { isProblem, type LedgermanProblem } from '@ledgerman/contract'
import {
  changeRecord,
  getEntry,
  listEntries,
  loadRecord,
  parseKeyParts,
  prepareBook,
  resolveMapping,
  Target,
  type Mapping,
} from '@ledgerman/core'
import { makeObservatory, type TestDatabase } from '../../../../testing/databases.js'
import { observatoryDefinition } from '../../../../testing/observatory-mappings.js'

let database: TestDatabase
let target: Target
let programme: Mapping
let calibration: Mapping

beforeAll(async () => {
  database = await makeObservatory()
  target = new Target({
    name: 'observatory',
    url: database.url,
    connections: 25,
    digestKey: Buffer.from('a key for tests'),
  })
  await prepareBook(target)
  programme = await resolved('programme')
  calibration = await resolved('calibration')
})
afterAll(async () => {
  await target.close()
  await database.drop()
})

const resolved = async (name: string) =>
  resolveMapping(observatoryDefinition(name), 1, await target.table(observatoryDefinition(name).table))
const keyOf = (code: string) => parseKeyParts(programme, [code])
const findMapping = () => Promise.resolve(programme)
const change = (
  code: string,
  values: Record<string, unknown>,
  guard: string | undefined,
  mode: 'commit' | 'rehearse' = 'commit',
) =>
  changeRecord(target, programme, {
    key: keyOf(code),
    values,
    guard: guard === undefined ? undefined : { guards: [guard] },
    mode,
    actor: 'night-desk',
  })
const refusalOf = (run: Promise<unknown>): Promise<LedgermanProblem> =>
  run.then(
    () => Promise.reject(new Error('was not refused')),
    (error: unknown) => (isProblem(error) ? error : Promise.reject(error)),
  )
const rowOf = async (code: string) => (await database.sql('select * from programme where code = $1', [code]))[0]

describe('a keyed change', () => {
  it('is written with its entry, counts the version up, and says what was and is', async () => {
    const loaded = await loadRecord(target, programme, keyOf('P-107'))
    const { record, guard, receipt } = await change('P-107', { hoursLeft: '14.50' }, loaded.guard ?? '')
    expect(record).toMatchObject({ hoursLeft: '14.50', rowVersion: 2 })
    expect(guard).toBe('v2')
    const [step] = receipt.steps
    expect(receipt.outcome).toBe('committed')
    expect(step).toMatchObject({
      matched: 1,
      changed: 1,
      rows: [{ key: { code: 'P-107' }, before: { hoursLeft: '18.50' }, after: { hoursLeft: '14.50' } }],
    })
    expect(step?.statement).not.toContain('14.5')
    expect(await rowOf('P-107')).toMatchObject({ hours_left: '14.50', row_version: 2 })

    const entry = await getEntry(target, receipt.id, findMapping)
    expect(entry).toMatchObject({ actor: 'night-desk', outcome: 'committed', key: { code: 'P-107' } })
    expect(entry.receipt.steps[0]?.rows).toEqual(step?.rows)
    expect(entry.receipt.steps[0]?.binds).toEqual(step?.binds)
    expect(entry.receipt.steps[0]?.statement).toBe(step?.statement)
  })

  it('does not write a row whose values are the same, and says so', async () => {
    const before = await rowOf('P-120')
    const { receipt, guard } = await change('P-120', { title: before?.['title'], priority: before?.['priority'] }, 'v1')
    expect(receipt.steps[0]).toMatchObject({ matched: 1, changed: 0, rows: [] })
    expect(guard).toBe('v1')
    expect(await rowOf('P-120')).toEqual(before)
  })

  it('leaves nothing of a rehearsal in the table or the book', async () => {
    const [before, entries] = [await rowOf('P-121'), await database.sql('select count(*) from ledgerman.entry')]
    const { receipt, record, guard } = await change('P-121', { hoursLeft: '0.25' }, 'v1', 'rehearse')
    expect(receipt).toMatchObject({ outcome: 'rehearsed', entry: null })
    expect(record).toMatchObject({ hoursLeft: '0.25', rowVersion: 2 })
    expect(guard).toBe('v1')
    expect(await rowOf('P-121')).toEqual(before)
    expect(await database.sql('select count(*) from ledgerman.entry')).toEqual(entries)
  })

  it('finds a record by a key of several columns, and guards it by its stamp', async () => {
    const key = parseKeyParts(calibration, ['HF1', '2026-02-03', 'flat'])
    const loaded = await loadRecord(target, calibration, key)
    expect(loaded.record).toMatchObject({ telescope: 'HF1', night: '2026-02-03', kind: 'flat', offsetArcsec: '0.0250' })
    const request = { key, mode: 'commit', actor: 'night-desk' } as const
    const changed = await changeRecord(target, calibration, {
      ...request,
      values: { frames: 12 },
      guard: { guards: [loaded.guard ?? ''] },
    })
    expect((await loadRecord(target, calibration, key)).guard).toBe(changed.guard)
    // A writer that knows nothing of versions is seen too.
    await database.sql(
      `update calibration set note = 'redone' where telescope = 'HF1' and night = '2026-02-03' and kind = 'flat'`,
    )
    const refusal = await refusalOf(
      changeRecord(target, calibration, {
        ...request,
        values: { frames: 13 },
        guard: { guards: [changed.guard ?? ''] },
      }),
    )
    expect(refusal.code).toBe('record-changed')
    expect(refusal.facts).toMatchObject({ yours: { frames: 13 }, current: { frames: 12, note: 'redone' } })
  })

  it('lets exactly one of twenty savers of one loaded version through, with one entry for it', async () => {
    const key = keyOf('P-130')
    const outcomes = await Promise.all(
      Array.from({ length: 20 }, (_, at) =>
        change('P-130', { title: `Version of saver ${at}` }, 'v1').then(
          (done) => done.receipt.outcome,
          (error: LedgermanProblem) => error.code,
        ),
      ),
    )
    expect(outcomes.filter((outcome) => outcome === 'committed')).toHaveLength(1)
    expect(outcomes.filter((outcome) => outcome === 'record-changed')).toHaveLength(19)
    expect((await loadRecord(target, programme, key)).guard).toBe('v2')
    const { entries } = await listEntries(target, { limit: 100, mapping: 'programme', key: ['P-130'] }, findMapping)
    expect(entries.filter((entry) => entry.outcome === 'committed')).toHaveLength(1)
    expect(entries.filter((entry) => entry.problem === 'record-changed')).toHaveLength(19)
  })

  it('tells the database who acts before a row is written', async () => {
    await database.sql(`
      create table seen (actor text);
      grant insert on seen to ledgerman_worker;
      create function see_actor() returns trigger language plpgsql as $$ begin insert into seen values (current_setting('ledgerman.actor')); return new; end $$;
      create trigger see_actor before update on observer for each row execute function see_actor()`)
    target.forgetCatalogue()
    const observer = await resolved('observer')
    await changeRecord(target, observer, {
      key: parseKeyParts(observer, ['B-002']),
      values: { active: false },
      guard: 'any',
      mode: 'commit',
      actor: 'night-desk',
    })
    expect(await database.sql('select actor from seen')).toEqual([{ actor: 'night-desk' }])
  })
})

describe('a refused change', () => {
  const cases: [string, Record<string, unknown>, Partial<LedgermanProblem>][] = [
    [
      'a broken check',
      { hoursLeft: '300.00' },
      { code: 'constraint-broken', facts: { kind: 'check', constraint: 'programme_hours_left_check' } },
    ],
    [
      'a missing parent',
      { leadId: 999 },
      { code: 'constraint-broken', facts: { kind: 'missing-parent', properties: ['leadId'] } },
    ],
    [
      'a null where there may be none',
      { title: null },
      { code: 'constraint-broken', facts: { kind: 'not-null', properties: ['title'] } },
    ],
  ]
  it.each(cases)('names %s in the mapping’s words and leaves the record alone', async (_what, values, expected) => {
    const before = await rowOf('P-140')
    const refusal = await refusalOf(change('P-140', values, 'v1'))
    expect(refusal).toMatchObject(expected)
    expect(refusal.facts['receipt']).toMatchObject({ outcome: 'refused' })
    expect(await rowOf('P-140')).toEqual(before)
  })

  it('tells a duplicate apart', async () => {
    const observer = await resolved('observer')
    const request = {
      key: parseKeyParts(observer, ['B-001']),
      values: { email: 'tomas.okafor@harrowfell.example' },
      guard: 'any',
      mode: 'commit',
      actor: 'night-desk',
    } as const
    expect(await refusalOf(changeRecord(target, observer, request))).toMatchObject({
      code: 'constraint-broken',
      facts: { kind: 'duplicate', properties: ['email'] },
    })
  })

  const unsent: [string, Record<string, unknown>, string | undefined, string, RegExp][] = [
    ['no guard', { title: 'x' }, undefined, 'guard-required', /If-Match/],
    ['an unknown property', { hourLeft: '1' }, 'v1', 'request-invalid', /Did you mean hoursLeft/],
    ['a fixed property', { code: 'P-1' }, 'v1', 'request-invalid', /code cannot be set/],
    ['the version', { rowVersion: 9 }, 'v1', 'request-invalid', /counted up with each change/],
    ['a number where none fits', { hoursLeft: 'soon' }, 'v1', 'value-invalid', /hoursLeft: expected a number/],
    ['digits that would be rounded away', { hoursLeft: '1.005' }, 'v1', 'value-invalid', /at most 2 digits/],
    ['a wrong kind', { priority: 'high' }, 'v1', 'value-invalid', /whole number/],
  ]
  it.each(unsent)('is refused for %s before anything is sent', async (_what, values, guard, code, words) => {
    const refusal = await refusalOf(change('P-140', values, guard))
    expect(refusal.code).toBe(code)
    expect(refusal.detail).toMatch(words)
    expect(refusal.facts['receipt']).toBeUndefined()
  })

  it('says that there is no such record, and never that one was changed', async () => {
    expect(await refusalOf(change('P-999', { title: 'x' }, 'v1'))).toMatchObject({
      code: 'no-such-record',
      facts: { key: { code: 'P-999' } },
    })
  })

  it('waits for a lock no longer than the lock wait', async () => {
    const holder = await database.session()
    await holder.query(`begin; update programme set title = title where code = 'P-141'`)
    const started = Date.now()
    expect((await refusalOf(change('P-141', { title: 'x' }, 'v1'))).code).toBe('lock-timeout')
    expect(Date.now() - started).toBeLessThan(target.limits.lockWaitMs * 3)
    await holder.query('rollback')
    await holder.end()
  })
})

describe('a target without a book', () => {
  it('can be read and rehearsed, but not committed to', async () => {
    const bare = await makeObservatory()
    const other = new Target({ name: 'bare', url: bare.url, digestKey: Buffer.from('k') })
    const mapping = resolveMapping(observatoryDefinition('programme'), 1, await other.table('public.programme'))
    const request = {
      key: parseKeyParts(mapping, ['P-107']),
      values: { hoursLeft: '1.00' },
      guard: { guards: ['v1'] },
      actor: 'night-desk',
    }
    expect((await changeRecord(other, mapping, { ...request, mode: 'rehearse' })).receipt.outcome).toBe('rehearsed')
    expect((await refusalOf(changeRecord(other, mapping, { ...request, mode: 'commit' }))).code).toBe(
      'book-not-prepared',
    )
    const created = await prepareBook(other)
    expect((await prepareBook(other)).prepared).toBe('already')
    expect(created.created).toContain('table ledgerman.entry')
    const elsewhere = await bare.sql(
      `select nspname from pg_namespace where nspname not like 'pg\\_%' and nspname not in ('information_schema', 'public', 'ledgerman')`,
    )
    expect(elsewhere).toEqual([])
    expect((await changeRecord(other, mapping, { ...request, mode: 'commit' })).receipt.outcome).toBe('committed')
    // Dropped under our feet, it is missed, and nothing is changed without it.
    await bare.sql('drop schema ledgerman cascade')
    const again = { ...request, values: { hoursLeft: '2.00' }, guard: 'any', mode: 'commit' } as const
    expect((await refusalOf(changeRecord(other, mapping, again))).code).toBe('book-not-prepared')
    expect(await bare.sql(`select hours_left from programme where code = 'P-107'`)).toEqual([{ hours_left: '1.00' }])
    await prepareBook(other)
    const { receipt } = await changeRecord(other, mapping, again)
    expect((await getEntry(other, receipt.id, findMapping)).receipt.steps[0]?.statement).toMatch(
      /update public.programme/,
    )
    await other.close()
    await bare.drop()
  })
})
