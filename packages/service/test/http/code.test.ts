import { spawn } from 'node:child_process'
import { once } from 'node:events'
import { readdirSync, readFileSync, rmSync } from 'node:fs'
import { join } from 'node:path'
import fc from 'fast-check'
import pg from 'pg'
import { isProblem, type RecordValues } from '@ledgerman/contract'
import { holdsFor } from '../../../../testing/generated.js'
import { compileCode, compileInto, type CompiledCode } from '../../../../testing/compiled-code.js'
import { makeObservatory, type TestDatabase } from '../../../../testing/databases.js'
import { startTestService, type RunningService } from '../../../../testing/running-service.js'
import { rowsOf } from '../observatory-rows.js'

// The code that is handed over does what the service does: the same calls to both, on two databases that begin alike.
let service: RunningService
let copy: TestDatabase
let pool: pg.Pool
let settled: pg.Pool
let code: CompiledCode
const target = () => service.client.target('observatory')
const ROUNDS = Number(process.env['LEDGERMAN_TEST_EMITTED'] ?? 12)

/** What became of a call: what it gave, or the code of what it threw. */
async function outcome(work: Promise<unknown>): Promise<unknown> {
  try {
    return await work
  } catch (error) {
    if (isProblem(error)) return error.code
    if (error instanceof Error && 'code' in error && 'matched' in error === false)
      return (error as { code: string }).code
    if (error instanceof code.module.DataError) return (error as { code: string }).code
    throw error
  }
}

beforeAll(async () => {
  ;[service, copy] = await Promise.all([startTestService(), makeObservatory()])
  code = await compileCode(await target().code())
  pool = new pg.Pool({ connectionString: copy.ownerUrl, max: 4 })
  settled = new pg.Pool({ connectionString: copy.ownerUrl, max: 4, ...code.module.POOL_SETTINGS })
})
afterAll(async () => {
  code?.remove()
  await Promise.all([pool?.end(), settled?.end()])
  await Promise.all([service.stop(), copy.drop()])
})

describe('code that was written', () => {
  it('loads every record as the service does, and finds it by its values', async () => {
    for (const mapping of ['programme', 'calibration', 'observer', 'telescope', 'block', 'exposure']) {
      const { properties, key } = await target().mapping(mapping)
      const all = (await target().find(mapping, { limit: 1000 })).found.slice(0, 40)
      const type = mapping.charAt(0).toUpperCase() + mapping.slice(1)
      for (const record of all) {
        const parts = Object.fromEntries(key.map((name) => [name, record[name]]))
        const theirs = await target().load(mapping, Object.values(parts).map(String))
        const ours = await code.module[`load${type}`](pool, parts)
        const plain = JSON.parse(JSON.stringify(theirs)) as { record: RecordValues; guard: string }
        // Stamps are those of transactions, which differ from one database to the other.
        if (/^s/.test(plain.guard ?? '')) plain.guard = ours.guard
        expect(ours).toEqual(plain)
        expect(await code.module[`find${type}`](pool, parts)).toEqual([ours])
      }
      expect([mapping, all.length > 0, (properties?.length ?? 0) > 0]).toEqual([mapping, true, true])
    }
  })

  it('finds by the names that a mapping gives, as the service does', async () => {
    const named = { find: 'shortOfHours', order: undefined }
    for (const params of [{ least: '5' }, { least: '12.5', semester: '2026A' }, { least: '0', semester: null }]) {
      const { found } = await target().find('programme', { ...named, params, limit: 100 })
      const ours = await code.module['findProgrammeShortOfHours'](pool, params)
      expect(ours.map(({ record }: { record: RecordValues }) => record)).toEqual(JSON.parse(JSON.stringify(found)))
    }
    expect((await code.module['findProgrammeShortOfHours'](pool, { least: '12' }, { limit: 2 })).length).toBe(2)
    expect(await outcome(code.module['findProgrammeShortOfHours'](pool, { least: 'x' }))).toBe('value-invalid')
    expect(await outcome(code.module['findProgrammeShortOfHours'](pool, {}))).toBe('value-invalid')
  })

  it('does and refuses what the service does, whatever is asked', async () => {
    const programme = fc.constantFrom('P-101', 'P-104', 'P-107', 'P-108', 'P-112', 'P-999')
    const changes = fc.record(
      {
        hoursLeft: fc.constantFrom('1.00', '14.50', '9999', '14.505', '-1', 'x', '18.5'),
        title: fc.constantFrom('Rotation curves', 'it\'s "new"', '', 'ü€😀'),
        priority: fc.constantFrom<unknown>(1, 3, 5, 99999, '2'),
        tags: fc.constantFrom<unknown>([], ['a', 'b,c', '"'], ['NULL', null]),
        settings: fc.constantFrom<unknown>(null, { binning: 2 }, { 'ledgerman:json': null }, [1, 'x']),
        leadId: fc.constantFrom(1, 2, 999),
        contactEmail: fc.constantFrom(null, 'a@harrowfell.example'),
      },
      { requiredKeys: [] },
    )
    const operation = fc.oneof(
      fc.record({ kind: fc.constant('change' as const), key: programme, changes, isStale: fc.boolean() }),
      fc.record({
        kind: fc.constant('move' as const),
        params: fc.record({ from: programme, to: programme, hours: fc.constantFrom('1', '4.25', '12', '0', '10000') }),
      }),
      fc.record({
        kind: fc.constant('add' as const),
        code: fc.constantFrom('HF1', 'HF8', 'HF9', 'a very long code'),
        apertureM: fc.constantFrom('1.5', '-1', '0.55'),
      }),
      fc.record({
        kind: fc.constant('remove' as const),
        key: fc.constantFrom('HF1', 'HF8', 'HF9'),
        isStale: fc.boolean(),
      }),
      fc.record({
        kind: fc.constant('stretch' as const),
        programme,
        factor: fc.constantFrom('1.05', '3', '0', '0.001'),
      }),
      fc.record({
        kind: fc.constant('swap' as const),
        one: fc.integer({ min: 1, max: 8 }),
        other: fc.integer({ min: 1, max: 8 }),
      }),
    )
    let cases = 0
    await holdsFor(
      ROUNDS,
      fc.asyncProperty(fc.array(operation, { minLength: 4, maxLength: 8 }), async (operations) => {
        for (const each of operations) {
          const [theirs, ours] = [await theirOutcome(each), await ourOutcome(each)]
          expect([each, ours]).toEqual([each, theirs])
          cases++
        }
        expect(await rowsOf(copy)).toEqual(await rowsOf(service.observatory))
      }),
      { endOnFailure: true },
    )
    expect(cases).toBeGreaterThanOrEqual(ROUNDS * 4)

    type Operation = typeof operation extends fc.Arbitrary<infer O> ? O : never
    async function theirOutcome(each: Operation) {
      const commit = { mode: 'commit' as const }
      const counts = ({
        receipt,
      }: {
        receipt: { steps: { kind: string; matched: number | null; changed: number | null }[] }
      }) => {
        const writing = receipt.steps.filter(({ kind }) => kind !== 'load' && kind !== 'require')
        const sum = (of: 'matched' | 'changed') => writing.reduce((total, step) => total + (step[of] ?? 0), 0)
        return { matched: sum('matched'), changed: sum('changed') }
      }
      const run = (transaction: string, params: RecordValues) =>
        outcome(
          target()
            .run({ ...commit, transaction, params })
            .then((receipt) => counts({ receipt })),
        )
      if (each.kind === 'move') return run('move-hours', each.params)
      if (each.kind === 'stretch') return run('stretch-exposures', { programme: each.programme, factor: each.factor })
      if (each.kind === 'swap') return run('swap-slots', { one: each.one, other: each.other })
      if (each.kind === 'add')
        return outcome(
          target().add('telescope', { code: each.code, name: 'New', apertureM: each.apertureM }, commit).then(counts),
        )
      const mapping = each.kind === 'change' ? 'programme' : 'telescope'
      const loaded = await target()
        .load(mapping, [each.key])
        .catch(() => null)
      if (!loaded) return 'no-such-record'
      const guard = each.isStale ? 'v999999' : (loaded.guard ?? '*')
      if (each.kind === 'remove')
        return outcome(
          target()
            .remove(mapping, [each.key], { ...commit, guard })
            .then(counts),
        )
      if (Object.keys(each.changes).length === 0) return 'value-invalid'
      return outcome(
        target()
          .change(mapping, [each.key], each.changes as RecordValues, { ...commit, guard })
          .then(counts),
      )
    }
    async function ourOutcome(each: Operation) {
      const { module } = code
      // Both kinds of pool come to the same.
      const on = cases % 2 === 0 ? pool : settled
      const counts = ({ matched, changed }: { matched: number; changed: number }) => ({ matched, changed })
      if (each.kind === 'move') return outcome(module.moveHours(on, each.params).then(counts))
      if (each.kind === 'stretch')
        return outcome(module.stretchExposures(on, { programme: each.programme, factor: each.factor }).then(counts))
      if (each.kind === 'swap') return outcome(module.swapSlots(on, { one: each.one, other: each.other }).then(counts))
      if (each.kind === 'add')
        return outcome(
          module.addTelescope(on, { code: each.code, name: 'New', apertureM: each.apertureM }).then(counts),
        )
      const type = each.kind === 'change' ? 'Programme' : 'Telescope'
      const loaded = await module[`load${type}`](on, { code: each.key }).catch(() => null)
      if (!loaded) return 'no-such-record'
      const given = each.isStale ? { ...loaded, guard: 'v999999' } : loaded
      if (each.kind === 'remove') return outcome(module.removeTelescope(on, given).then(counts))
      return outcome(module.changeProgramme(on, given, each.changes).then(counts))
    }
  })

  it("says who changed a record meanwhile, and runs inside a transaction of one's own", async () => {
    const { loadProgramme, changeProgramme, RecordChanged, RecordMissing } = code.module
    const loaded = await loadProgramme(pool, { code: 'P-103' })
    await changeProgramme(pool, loaded, { priority: loaded.record.priority === 1 ? 2 : 1 })
    const error = await changeProgramme(pool, loaded, { priority: 5 }).catch((reason: unknown) => reason)
    expect(error).toBeInstanceOf(RecordChanged)
    expect(error).toMatchObject({
      loaded: { priority: loaded.record.priority },
      yours: { priority: 5 },
      current: { priority: expect.any(Number) },
      guard: expect.stringMatching(/^v\d+$/),
    })
    await expect(loadProgramme(pool, { code: 'P-000' })).rejects.toBeInstanceOf(RecordMissing)
    const client = await pool.connect()
    await client.query(`begin; set local timezone = 'Asia/Tokyo'; set local datestyle = 'German'`)
    const inside = await loadProgramme(client, { code: 'P-103' })
    const changed = await changeProgramme(client, inside, { title: 'Inside' })
    expect(changed.record).toEqual({
      ...inside.record,
      title: 'Inside',
      rowVersion: inside.record.rowVersion + 1,
      updatedAt: expect.stringMatching(/^2\d{3}-.*T.*Z$/),
    })
    expect((await client.query('show timezone')).rows).toEqual([{ TimeZone: 'Asia/Tokyo' }])
    await client.query('rollback')
    client.release()
    expect((await loadProgramme(pool, { code: 'P-103' })).record.title).toBe(inside.record.title)
    expect(pool.totalCount).toBe(pool.idleCount)
  })

  it('takes what is undefined for nothing: neither for null, nor for a key, nor for what is looked for', async () => {
    const { loadProgramme, changeProgramme, replaceProgramme, findProgramme, moveHours } = code.module
    const loaded = await loadProgramme(pool, { code: 'P-105' })
    const contactEmail = 'lead@example.org'
    const first = await changeProgramme(pool, loaded, { contactEmail, priority: 1 })
    const second = await changeProgramme(pool, first, { contactEmail: undefined, priority: 2 })
    expect(second.record).toMatchObject({ contactEmail, priority: 2 })
    const refused = async (work: Promise<unknown>) => work.then(String, (error: Error) => error.message)
    expect(await refused(changeProgramme(pool, second, { contactEmail: undefined }))).toMatch(/at least one property/)
    expect(await refused(replaceProgramme(pool, second, { ...second.record, title: undefined }))).toMatch(
      /^title: expected a value/,
    )
    for (const key of [{}, { code: undefined }, { code: null }])
      expect(await refused(loadProgramme(pool, key))).toBe('code: expected a value: it is part of the key.')
    expect(await refused(loadProgramme(pool, { code: 'P-000' }))).toBe('programme: there is no record with code P-000.')
    expect(await refused(findProgramme(pool, { code: undefined }))).toBe('code: expected a value, or null for none.')
    const params = { from: 'P-105', to: 'P-106', hours: '1', hour: '2' }
    expect(await refused(moveHours(pool, params))).toBe('hour: expected one of from, to, hours.')
  })

  it('waits no longer than it says, and keeps no client', async () => {
    const { loadProgramme, changeProgramme, LockTimeout } = code.module
    const holder = await copy.session()
    await holder.query(`begin; select 1 from programme where code = 'P-104' for update`)
    const loaded = await loadProgramme(pool, { code: 'P-104' })
    await expect(changeProgramme(pool, loaded, { priority: 1 })).rejects.toBeInstanceOf(LockTimeout)
    await holder.query('rollback')
    await holder.end()
    expect(pool.totalCount).toBe(pool.idleCount)
  })

  it('is the same each time, comes as an archive, and not for what is not there', async () => {
    expect(await target().code()).toEqual(await target().code())
    const one = await target().code({ mappings: ['telescope'] })
    const paths = one.map(({ path }) => path)
    expect(paths.filter((path) => !path.startsWith('support/'))).toEqual(['telescope.ts', 'support.ts', 'index.ts'])
    for (const { text } of one) expect(text.split('\n').length).toBeLessThan(400)
    const zip = await service.request('POST', '/v1/targets/observatory/code', {
      body: {},
      headers: { 'content-type': 'application/json', accept: 'application/zip' },
    })
    expect([zip.status, zip.headers.get('content-type'), zip.text.slice(0, 2)]).toEqual([200, 'application/zip', 'PK'])
    await expect(target().code({ mappings: ['telescop'] })).rejects.toMatchObject({ code: 'not-found' })
  })

  it('is proven in a scratch database, example by example and record by record', async () => {
    // What was done at random above may have left too few hours for the example, or no room for more.
    await service.observatory.sql('update programme set hours_left = hours_granted / 2')
    const { cases, notTried, passed } = await target().proveCode({})
    expect(cases.filter(({ same }) => !same)).toEqual([])
    expect([passed, notTried]).toEqual([true, ['skyFeed has no key.']])
    expect(cases.length).toBeGreaterThan(50)
    expect(cases.find(({ what }) => what === 'move-hours, example 1')).toMatchObject({
      service: '{"matched":2,"changed":2}',
      rows: 2,
      same: true,
      differing: [],
    })
    expect(cases.filter(({ code }) => code === 'constraint-broken').length).toBeGreaterThan(3)
    const booked = await target().proveCode({ mappings: ['exposure'], transactions: ['swap-slots'], book: true })
    expect(booked.cases.filter(({ same }) => !same)).toEqual([])
    expect(booked.passed).toBe(true)
    // A table of settings may have one row.
    await service.observatory
      .sql(`create table dome (code text primary key, opens_at time); grant all on dome to ledgerman_worker;
      insert into dome values ('N', '19:30')`)
    await target().publishMapping('dome', JSON.stringify((await target().deriveMapping('public', 'dome')).definition))
    const lone = await target().proveCode({ mappings: ['dome'] })
    expect([lone.passed, lone.notTried, lone.cases.length]).toEqual([true, [], 3])
    await expect(target().proveCode({ mappings: ['nowhere'] })).rejects.toMatchObject({ code: 'not-found' })
  })

  it('carries a service by itself', async () => {
    const example = join(import.meta.dirname, '../../../../examples/hours-office')
    const written = await target().code({ mappings: ['programme'], transactions: ['move-hours'] })
    // What stands in the example is what is written now.
    const there = readdirSync(join(example, 'data'), { recursive: true, encoding: 'utf8' })
    expect(there.filter((path) => path.endsWith('.ts')).sort()).toEqual(written.map(({ path }) => path).sort())
    for (const { path, text } of written) expect(readFileSync(join(example, 'data', path), 'utf8')).toBe(text)
    const server = { path: 'server.ts', text: readFileSync(join(example, 'server.ts'), 'utf8') }
    const dir = compileInto([server, ...written.map(({ path, text }) => ({ path: `data/${path}`, text }))])
    const env = { ...process.env, NODE_OPTIONS: '', PORT: '0', DATABASE_URL: copy.ownerUrl }
    const office = spawn(process.execPath, [join(dir, 'server.js')], { env, stdio: ['ignore', 'pipe', 'inherit'] })
    try {
      const [line] = (await once(office.stdout, 'data')) as [Buffer]
      const url = `http://127.0.0.1:${/on (\d+)/.exec(line.toString())?.[1]}`
      const call = async (method: string, path: string, body?: object, headers: Record<string, string> = {}) => {
        const init = {
          method,
          headers: { 'content-type': 'application/json', ...headers },
          ...(body ? { body: JSON.stringify(body) } : {}),
        }
        const answer = await fetch(url + path, init)
        return {
          status: answer.status,
          etag: answer.headers.get('etag') ?? '',
          body: (await answer.json()) as Record<string, unknown>,
        }
      }
      const seen = await call('GET', '/programmes/P-105')
      expect([seen.status, seen.body['code']]).toEqual([200, 'P-105'])
      const changed = await call('PATCH', '/programmes/P-105', { title: 'Office' }, { 'if-match': seen.etag })
      expect(changed).toMatchObject({ status: 200, body: { changed: 1, record: { title: 'Office' } } })
      expect(await call('PATCH', '/programmes/P-105', { title: 'Late' }, { 'if-match': seen.etag })).toMatchObject({
        status: 412,
        body: { code: 'record-changed', current: { title: 'Office' } },
      })
      expect((await call('GET', '/programmes/P-000')).status).toBe(404)
      const transfer = await call('POST', '/transfers', { from: 'P-113', to: 'P-105', hours: '0.25' })
      expect(transfer).toMatchObject({ status: 201, body: { changed: 2, matched: 2 } })
      expect(await call('POST', '/transfers', { from: 'P-113', to: 'P-105', hours: '4000' })).toMatchObject({
        status: 422,
      })
    } finally {
      office.kill()
      rmSync(dir, { recursive: true })
    }
  })
})
