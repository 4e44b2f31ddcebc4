import { randomUUID } from 'node:crypto'
import {
  addRecord,
  changeRecord,
  copyLine,
  drillFaults,
  exportRecords,
  findRecords,
  loadRecord,
  parseKeyParts,
  readColumns,
  readRow,
  removeRecord,
  resolveFilterJob,
  resolvePlan,
  reverseEntries,
  runFileJob,
  runFilterJob,
  runPlan,
  type Definitions,
  type Mapping,
} from '@ledgerman/core'
import { parseJson, printJson, type JobInput, type RecordValues, type StepDefinition } from '@ledgerman/contract'
import { ODD_TYPES, RELATIONS } from '../../../../testing/odd-relations.js'
import { openOwnTables, type OwnTables } from '../../../../testing/own-tables.js'

// Relations that nobody tuned to us: each goes through every verb, a find by pages, an export, a run and a drill.

let own: OwnTables
const mappings = new Map<string, Mapping>()
const options = { mode: 'commit', actor: 'ada' } as const
const noMapping = () => Promise.reject(new Error('no other mapping is needed'))
const keyOf = (mapping: Mapping, record: RecordValues) =>
  parseKeyParts(
    mapping,
    mapping.key.map(({ name }) => String(record[name])),
  )

async function allOf(mapping: Mapping): Promise<RecordValues[]> {
  const records: RecordValues[] = []
  for (let after: string | undefined; ;) {
    const page = await findRecords(own.target, mapping, { limit: 2, after, bind: {} }, noMapping)
    records.push(...page.found)
    if (page.next === null) return records
    after = page.next
  }
}

async function run(mapping: Mapping, steps: StepDefinition[]) {
  const plan = await resolvePlan(own.target, { params: {}, steps }, null, null, () => Promise.resolve(mapping))
  return (await runPlan(own.target, plan, { ...options, params: {} })).receipt
}

beforeAll(async () => {
  own = await openOwnTables({}, {}, { isTrapped: true })
  await own.database.sql(ODD_TYPES)
  for (const { path, ddl } of RELATIONS) {
    const isView = path === 'public.bright'
    const mapping = await own.mapped(path, ddl, { guard: { by: 'none' }, ...(isView ? { key: ['id'] } : {}) })
    mappings.set(path, mapping)
  }
})
afterAll(() => own.close())

describe.each(RELATIONS)('a relation $name', ({ path, isFixed }) => {
  it('is found, exported, loaded, changed, put back, removed and added as it was', async () => {
    const mapping = mappings.get(path) as Mapping
    const [{ n = 0 } = {}] = await own.database.sql(`select count(*)::int as n from ${mapping.table.sql}`)
    const before = await allOf(mapping)
    expect(before).toHaveLength(n as number)
    const exported: RecordValues[] = []
    const { batches } = await exportRecords(own.target, mapping, { form: 'ndjson', withGuard: false }, noMapping)
    // Lines that the server writes say the same as records that were read and printed.
    for await (const batch of batches)
      exported.push(...batch.map((each) => (typeof each === 'string' ? (parseJson(each) as RecordValues) : each)))
    expect(exported.map((record) => printJson(record))).toEqual(before.map((record) => printJson(record)))
    let lines = 0
    const csv = await exportRecords(own.target, mapping, { form: 'csv', withGuard: false }, noMapping)
    for await (const batch of csv.batches) lines += batch.length
    expect(lines).toBe(n)
    for (const record of before) {
      const key = keyOf(mapping, record)
      expect((await loadRecord(own.target, mapping, key)).record).toEqual(record)
      const changed = await changeRecord(own.target, mapping, {
        ...options,
        key,
        guard: 'any',
        values: { note: 'was' },
      })
      expect(changed.receipt.steps[0]).toMatchObject({ matched: 1, changed: 1 })
      expect((await own.lastEntry())?.['outcome']).toBe('committed')
      await changeRecord(own.target, mapping, { ...options, key, guard: 'any', values: { note: 'is' } })
      if (isFixed) continue
      expect((await loadRecord(own.target, mapping, key)).record).toEqual(record)
      const settable = mapping.properties.filter(({ lockedBecause, key: isKey }) => lockedBecause === null || isKey)
      const values = Object.fromEntries(settable.map(({ name }) => [name, record[name] ?? null]))
      await removeRecord(own.target, mapping, { ...options, key, guard: 'any' })
      await expect(loadRecord(own.target, mapping, key)).rejects.toMatchObject({ code: 'no-such-record' })
      const added = await addRecord(own.target, mapping, { ...options, values })
      expect(added.record).toEqual(record)
    }
  })

  it('is changed by a condition, all of it and no more', async () => {
    const mapping = mappings.get(path) as Mapping
    const before = await allOf(mapping)
    const by = (from: string, to: string): StepDefinition =>
      ({
        change: mapping.name,
        where: `note = '${from}'`,
        expect: before.length,
        everyRow: true,
        values: { note: to },
      }) as StepDefinition
    const receipt = await run(mapping, [by('is', 'was')])
    expect(receipt.steps[0]).toMatchObject({ matched: before.length, changed: before.length })
    await run(mapping, [by('was', 'is')])
    if (!isFixed) expect(await allOf(mapping)).toEqual(before)
  })
})

/** What a job is asked with, whatever it does. */
const asJob = () => ({
  job: randomUUID(),
  mode: 'commit' as const,
  actor: 'ada',
  note: null,
  timeLimitMs: 20_000,
  signal: new AbortController().signal,
  onProgress: () => undefined,
})

async function changeAll(mapping: Mapping, change: object): Promise<string> {
  const input = { mode: 'commit', mapping: mapping.name, everyRow: true, expect: 'any', images: 'changed', ...change }
  const job = await resolveFilterJob(own.target, input as JobInput, () => Promise.resolve(mapping))
  return (await runFilterJob(own.target, job, asJob())).entry ?? ''
}

/** Sends every record's note as a file has it. */
async function fromFile(mapping: Mapping, records: readonly RecordValues[], note: string): Promise<string> {
  const names = [...mapping.key.map(({ name }) => name), 'note']
  const columns = readColumns(mapping, names, { guard: null, onMissing: 'refuse' }, 1)
  const lines = records.map((record, at) => {
    const fields = names.map((name) => (name === 'note' ? note : (record[name] as string)))
    return copyLine(at + 1, at + 2, readRow(mapping, columns, fields, false, at + 2))
  })
  async function* read() {
    yield await Promise.resolve(lines.join(''))
  }
  const job = { mapping, given: columns.shape, images: 'changed' as const, chunk: null, rows: lines.length, read }
  const hooks = { done: 0, onFailed: () => Promise.resolve(), onChunk: () => Promise.resolve() }
  const { report, entry } = await runFileJob(own.target, job, asJob(), hooks)
  expect(report).toMatchObject({ matched: records.length, changed: records.length, notFound: 0, refused: 0 })
  return entry ?? ''
}

describe.each(RELATIONS.filter(({ isFixed }) => !isFixed))('a relation $name', ({ path }) => {
  it('is changed, corrected from a file and removed by jobs, and put back from the book', async () => {
    const mapping = mappings.get(path) as Mapping
    const before = await allOf(mapping)
    const putBack = async (...entries: string[]) => {
      const request = { ...asJob(), onlyUnchanged: false }
      await reverseEntries(own.target, entries, () => Promise.resolve(mapping), request)
      const now = await allOf(mapping)
      expect(now.map((record) => printJson(record)).sort()).toEqual(before.map((record) => printJson(record)).sort())
    }
    const changed = await changeAll(mapping, { values: { note: 'was' } })
    const filed = await fromFile(mapping, before, 'filed')
    expect((await allOf(mapping)).every(({ note }) => note === 'filed')).toBe(true)
    await putBack(filed, changed)
    await putBack(await changeAll(mapping, { remove: true }))
  })
})

it('a key that a file has in two cases, where the column does not tell them apart, is told as one', async () => {
  const mapping = mappings.get('public.plate_label') as Mapping
  const before = await allOf(mapping)
  const twice = fromFile(mapping, [{ label: 'alpha' }, { label: 'ALPHA' }, { label: 'B' }], 'was')
  await expect(twice).rejects.toMatchObject({
    problem: { code: 'record-ambiguous', detail: expect.stringMatching(/^Lines 2 and 3 have the same key/) as string },
  })
  expect(await allOf(mapping)).toEqual(before)
})

it('all of them are copied for a drill, and a run through them is the same there', async () => {
  const find = (name: string) => Promise.resolve([...mappings.values()].find((each) => each.name === name) as Mapping)
  const definitions: Definitions = { actor: 'ada', mapping: (_, name) => find(name), transaction: noMapping }
  const steps = [...mappings.values()].map(
    ({ name }) =>
      ({
        change: name,
        where: `note = 'is'`,
        expect: 'some',
        everyRow: true,
        values: { note: 'drilled' },
      }) as StepDefinition,
  )
  const source = {
    target: own.target,
    targetUrl: own.database.url,
    homeUrl: own.database.ownerUrl,
    findMapping: find,
    env: process.env,
    sensitive: new Map<string, Set<string>>(),
  }
  const drill = await drillFaults(source, { kind: 'fault', run: { steps, params: {} }, faults: ['error'] }, definitions)
  expect(drill).toMatchObject({ passed: true, notRun: null, undisturbed: { outcome: 'committed' } })
})
