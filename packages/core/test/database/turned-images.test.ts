import { isProblem, jobInput, type MappingDefinition } from '@ledgerman/contract'
import {
  changeRecord,
  parseKeyParts,
  resolveFilterJob,
  reverseEntries,
  runFilterJob,
  type Mapping,
} from '@ledgerman/core'
import { openOwnTables, type OwnTables } from '../../../../testing/own-tables.js'

// A change of many rows is put back by its own images, where that says the same as reading the rows again. Whether it does or not, the
// rows come back, and the book holds what they are.
let own: OwnTables
const options = {
  mode: 'commit' as const,
  actor: 'night-desk',
  note: null,
  timeLimitMs: 20_000,
  signal: new AbortController().signal,
}

beforeAll(async () => {
  own = await openOwnTables({}, {}, { isTrapped: true })
})
afterAll(() => own.close())

let made = 0

/** A table of 300 readings, and what is done to it. */
async function readings(difference: Partial<MappingDefinition> = {}) {
  const table = `readings_${++made}`
  const ddl = `create table ${table} (id integer primary key, level numeric(8,2), mark varchar(20) not null, row_version integer not null default 1);
    insert into ${table} select n, case when n % 7 > 0 then n * 1.25 end, 'mark ' || n, 1 + n % 3 from generate_series(1, 300) n`
  const guard = { by: 'version' as const, property: 'rowVersion' }
  const mapping = await own.mapped(`public.${table}`, ddl, { guard, ...difference })
  const find = () => Promise.resolve(mapping)
  return {
    table,
    mapping,
    rows: async () =>
      (await own.database.sql(`select id, level::text, mark, row_version from ${table} order by id`)).map((row) =>
        Object.values(row).join(' | '),
      ),
    async change(compute: Record<string, string>, where = 'id > 20'): Promise<string> {
      const asked = { mode: 'commit', mapping: mapping.name, compute, where, expect: 'any', images: 'changed' }
      const job = await resolveFilterJob(own.target, jobInput.parse(asked), find)
      const done = await runFilterJob(own.target, job, {
        ...options,
        job: crypto.randomUUID(),
        onProgress: () => undefined,
      })
      return done.entry ?? ''
    },
    reverse: (entries: string[], onlyUnchanged = false, by: Mapping = mapping) =>
      reverseEntries(own.target, entries, () => Promise.resolve(by), { ...options, onlyUnchanged }),
  }
}

/** Whether the newest image of each row that an entry wrote is what the row is now. */
async function bookIsTrue(table: string, entry: string): Promise<boolean> {
  const [said] = await own.database.sql(
    `with newest as (select distinct on (key) key, after from ledgerman.history where id = $1 order by key, (after->>'row_version')::integer desc)
     select count(*) > 0 and bool_and((select bool_and(i.value is not distinct from r.value) from jsonb_each_text(n.after) i join jsonb_each_text(to_jsonb(t)) r using (key))) as ok
     from newest n join ${table} t on t.id = (n.key->>'id')::integer`,
    [entry],
  )
  return said?.['ok'] === true
}

/** Whether an entry's own images were taken: the statement that put it back reads them where they stand. */
async function isTurned(entry: string): Promise<boolean> {
  const [said] = await own.database.sql(
    `select s.text like '%ledgerman.image_block%' as turned from ledgerman.step p join ledgerman.statement s on s.id = p.statement where p.entry = $1`,
    [entry],
  )
  return said?.['turned'] === true
}

const withoutVersions = (rows: string[]) => rows.map((row) => row.replace(/\d+$/, ''))
const versions = (rows: string[]) => rows.map((row) => Number(/\d+$/.exec(row)?.[0]))

describe('a change of many rows is put back', () => {
  it('by its own images: rows as they were, versions on by one, the book true, and again', async () => {
    const { table, rows, change, reverse } = await readings()
    const before = await rows()
    const entry = await change({ level: 'coalesce(level, 0) + 0.75' })
    const { receipt } = await reverse([entry])
    expect(receipt).toMatchObject({ outcome: 'committed', reversible: 'yes', steps: [{ matched: 280, changed: 280 }] })
    expect(receipt.steps[0]?.rows.length).toBe(100)
    expect(await isTurned(receipt.id)).toBe(true)
    const now = await rows()
    expect(withoutVersions(now)).toEqual(withoutVersions(before))
    const wentOn = versions(now).map((version, at) => version - (versions(before)[at] ?? 0))
    expect([new Set(wentOn.slice(0, 20)), new Set(wentOn.slice(20))]).toEqual([new Set([0]), new Set([2])])
    expect(await bookIsTrue(table, receipt.id)).toBe(true)
    const again = await reverse([receipt.id])
    expect(await isTurned(again.receipt.id)).toBe(true)
    expect((await rows())[20]).toBe('21 | 0.75 | mark 21 | 4')
    expect(await bookIsTrue(table, again.receipt.id)).toBe(true)
  })

  it('of two changes, the newer first, each by its own images, though the versions went on in between', async () => {
    const { table, rows, change, reverse } = await readings()
    const before = await rows()
    const [one, other] = [await change({ level: '1' }), await change({ level: '2', mark: `'both'` })]
    const { receipt } = await reverse([other, one])
    expect(withoutVersions(await rows())).toEqual(withoutVersions(before))
    expect(await isTurned(receipt.id)).toBe(true)
    expect(await bookIsTrue(table, receipt.id)).toBe(true)
  })

  it('by its own images where the mapping has rules that all of it keeps', async () => {
    const rules = [{ that: 'level is null or level < 1000', otherwise: 'A level is below 1000.' }]
    const { rows, change, reverse } = await readings({ rules })
    const before = await rows()
    const { receipt } = await reverse([await change({ level: '1' })])
    expect(await isTurned(receipt.id)).toBe(true)
    expect(withoutVersions(await rows())).toEqual(withoutVersions(before))
  })

  it('row by row where versions went on differently since', async () => {
    const { table, mapping, rows, change, reverse } = await readings()
    const before = await rows()
    const entry = await change({ level: '1' })
    await changeRecord(own.target, mapping, {
      key: parseKeyParts(mapping, ['250']),
      values: { mark: 'other' },
      guard: 'any',
      mode: 'commit',
      actor: 'dawn-desk',
    })
    const { receipt } = await reverse([entry])
    expect(await isTurned(receipt.id)).toBe(false)
    expect(withoutVersions(await rows()).filter((row) => !row.includes('other'))).toEqual(
      withoutVersions(before).filter((row) => !row.startsWith('250 |')),
    )
    expect((await rows())[249]).toBe('250 | 312.50 | other | 5')
    expect(await bookIsTrue(table, receipt.id)).toBe(true)
  })

  it('not at all where one row was changed since, which is named with both values; the rest if asked', async () => {
    const { rows, table, change, reverse } = await readings()
    const entry = await change({ level: '1' })
    await own.database.sql(`update ${table} set level = 7 where id = 288`)
    const changed = await rows()
    const refused = await reverse([entry]).catch((error: unknown) => error)
    expect(isProblem(refused, 'reversal-conflict') && refused.facts).toMatchObject({
      rows: [{ key: { id: 288 }, left: { level: '1.00' }, now: { level: '7.00' } }],
    })
    expect(await rows()).toEqual(changed)
    const { receipt } = await reverse([entry], true)
    expect(receipt).toMatchObject({ steps: [{ changed: 279 }], leftAsIs: [{ key: { id: 288 } }] })
  })

  it('not where a column was made too short for it since', async () => {
    const { table, rows, change, reverse } = await readings()
    const entry = await change({ mark: `'m' || id` })
    await own.database.sql(`alter table ${table} alter mark type varchar(6) using left(mark, 6)`)
    const changed = await rows()
    own.target.forgetCatalogue()
    await expect(reverse([entry])).rejects.toMatchObject({ code: 'value-invalid' })
    expect(await rows()).toEqual(changed)
  })

  it('not where a column keeps fewer digits since, and would round it', async () => {
    const guard = { by: 'version' as const, property: 'rowVersion' }
    const ddl = `create table kept_digits (id integer primary key, level numeric, row_version integer not null default 1);
      insert into kept_digits values (1, 1.25)`
    const mapping = await own.mapped('public.kept_digits', ddl, { guard })
    const asked = { key: parseKeyParts(mapping, ['1']), guard: 'any', values: { level: '8.5' } } as const
    const { receipt } = await changeRecord(own.target, mapping, { ...asked, mode: 'commit', actor: 'ada' })
    const shorter = await own.mapped('public.kept_digits', 'alter table kept_digits alter level type numeric(8,1)', {
      guard,
    })
    const back = (mode: 'rehearse' | 'commit') =>
      reverseEntries(own.target, [receipt.id], () => Promise.resolve(shorter), {
        ...options,
        mode,
        onlyUnchanged: false,
      })
    for (const mode of ['rehearse', 'commit'] as const)
      await expect(back(mode)).rejects.toMatchObject({
        code: 'value-invalid',
        detail: expect.stringContaining('level cannot be put back as it was') as string,
      })
    expect(await own.database.sql('select level::text from kept_digits')).toEqual([{ level: '8.5' }])
  })

  it('not where a rule that came since forbids it', async () => {
    const { mapping, rows, change, reverse } = await readings()
    const entry = await change({ level: '1' })
    const ruled = await own.mapped(mapping.table.path, '', {
      guard: { by: 'version', property: 'rowVersion' },
      rules: [{ that: 'level < 300', otherwise: 'A level is below 300.' }],
    })
    const changed = await rows()
    await expect(reverse([entry], false, ruled)).rejects.toMatchObject({
      code: 'rule-broken',
      detail: `${ruled.name} 21: A level is below 300. 92 more rows cannot be applied either. Nothing was changed.`,
    })
    expect(await rows()).toEqual(changed)
  })
})
