import type { DrilledRun, InterleavingDrill } from '@ledgerman/contract'
import { sweepScratch } from '@ledgerman/core'
import { startTestService, type RunningService } from '../../../../testing/running-service.js'

let service: RunningService
const target = () => service.client.target('observatory')
const LEVELS = ['read committed', 'repeatable read', 'serializable'] as const
const scratchDatabases = () =>
  service.home.sql(`select datname from pg_database where datname like 'ledgerman\\_drill\\_%'`)
/** Those of the scratch databases there are that nobody drops: drills of other tests, on the same server, drop theirs when they are done. */
async function leftDatabases(): Promise<unknown[]> {
  const names = (databases: Record<string, unknown>[]) => databases.map(({ datname }) => datname)
  let left = names(await scratchDatabases())
  for (let look = 0; left.length > 0 && look < 100; look++) {
    await new Promise((resolve) => setTimeout(resolve, 200))
    const now = names(await scratchDatabases())
    left = left.filter((each) => now.includes(each))
  }
  return left
}
/** All rows of the target, to see that none was touched. */
const everything = () =>
  service.observatory.sql(`select (select json_agg(p order by id)::text from programme p) as programmes,
    (select json_agg(b order by id)::text from block b) as blocks, (select count(*) from hours_transfer) as transfers`)

const load = (code: string) => ({ load: 'programme', key: { code: `'${code}'` } })
const loadBoth = { load: 'programme', where: `code in ('P-107', 'P-112')`, expect: 2 }
const less = (code: string, hours: number) => ({
  change: 'programme',
  key: { code: `'${code}'` },
  guard: 'any',
  compute: { hoursLeft: `hoursLeft - ${hours}` },
})
const steps = (...all: object[]): DrilledRun => ({ steps: all }) as DrilledRun
const save = (hoursLeft: string): DrilledRun => ({
  mapping: 'programme',
  key: { code: 'P-107' },
  values: { hoursLeft },
})
const move = (from: string, to: string, hours: string): DrilledRun => ({
  transaction: 'move-hours',
  params: { from, to, hours },
})
/** The names of what was found, by isolation level. */
const found = ({ results }: InterleavingDrill) =>
  Object.fromEntries(results.map(({ isolation, anomalies }) => [isolation, anomalies.map(({ name }) => name)]))
const interleave = (runs: DrilledRun[], more: object = {}) =>
  target().drill({ kind: 'interleaving', runs, isolation: ['all'], ...more })

beforeAll(async () => {
  service = await startTestService()
})
afterAll(() => service.stop())

describe('every interleaving', () => {
  const blocks = { load: 'block', where: `programme.code = 'P-110' and state = 'planned'`, expect: 'any' }
  const addBlock = {
    add: 'block',
    values: {
      programmeId: 10,
      telescopeCode: 'HF1',
      targetName: 'new',
      raDeg: 1,
      decDeg: 1,
      exposureS: 60,
      night: '2027-03-03',
      slot: 1,
    },
  }
  const cases: [name: string, runs: DrilledRun[], levels: readonly string[]][] = [
    ['non-repeatable read', [steps(load('P-107'), load('P-107')), steps(less('P-107', 1))], LEVELS.slice(0, 1)],
    ['read skew', [steps(load('P-107'), load('P-112')), steps(less('P-107', 1), less('P-112', 1))], LEVELS.slice(0, 1)],
    ['phantom', [steps(blocks, blocks), steps(addBlock)], LEVELS.slice(0, 1)],
    ['write skew', [steps(loadBoth, less('P-107', 1)), steps(loadBoth, less('P-112', 2))], LEVELS.slice(0, 2)],
    [
      'read skew',
      [
        steps(
          { load: 'programme', where: `code = 'P-110' and priority = 4`, expect: 'any' },
          { load: 'programme', where: `code = 'P-110' and priority = 1`, expect: 'any' },
        ),
        steps({ change: 'programme', key: { code: `'P-110'` }, guard: 'any', values: { priority: 4 } }),
      ],
      LEVELS.slice(0, 1),
    ],
    [
      'write skew',
      [steps(blocks, addBlock), steps(blocks, { ...addBlock, values: { ...addBlock.values, slot: 2 } })],
      LEVELS.slice(0, 2),
    ],
    [
      'write skew',
      [
        steps(
          { load: 'block', where: `programme.code = 'P-110' and programme.priority = 1`, expect: 'any' },
          less('P-107', 1),
        ),
        steps(load('P-107'), { change: 'programme', key: { code: `'P-110'` }, guard: 'any', values: { priority: 3 } }),
      ],
      LEVELS.slice(0, 2),
    ],
    [
      'write skew',
      ['P-110', 'P-112'].map((code) =>
        steps(
          { load: 'programme', where: `priority = 5 and leadId = 1`, expect: 'any' },
          { change: 'programme', key: { code: `'${code}'` }, guard: 'any', values: { priority: 5, leadId: 1 } },
        ),
      ),
      LEVELS.slice(0, 2),
    ],
    [
      'read-only anomaly',
      [steps(less('P-112', 1)), steps(loadBoth, less('P-107', 1)), steps(loadBoth)],
      LEVELS.slice(0, 2),
    ],
  ]
  it.each(cases)('finds a %s at the levels that let it through, and at no other', async (name, runs, levels) => {
    const drill = await interleave(runs)
    expect(drill.sampled).toBe(false)
    expect(found(drill)).toEqual(
      Object.fromEntries(LEVELS.map((level) => [level, levels.includes(level) ? [name] : []])),
    )
    for (const { tried, committed, refused } of drill.results) {
      expect(tried).toBe(drill.possible)
      expect(committed + refused).toBe(tried)
    }
  })

  it('has not drilled a run that is refused whatever happens', async () => {
    const none = { mapping: 'programme', key: { code: 'P-107' }, values: {} }
    await expect(interleave([save('3.00'), none])).rejects.toThrow(/the save of programme names no property to set/)
    const gone = { mapping: 'programme', key: { code: 'P-999' }, values: { hoursLeft: '3.00' } }
    const drill = await interleave([save('3.00'), gone], { isolation: ['read committed'] })
    expect(drill).toMatchObject({
      passed: false,
      notRun: expect.stringMatching(/^B was not committed in any order that was tried: .*no programme with code P-999/),
    })
    const faulty = await target().drill({ kind: 'fault', run: gone, faults: ['error'] })
    expect(faulty).toMatchObject({
      passed: false,
      notRun: expect.stringMatching(/^Undisturbed it is refused .*no-such-record: .*no programme with code P-999/),
    })
    expect(faulty.results.map(({ staged }) => staged)).toEqual(
      faulty.results.map(({ fault }) => fault === 'error before step 1'),
    )
  })

  it('finds a lost update without a guard at read committed only, and with the version guard never', async () => {
    const drill = await interleave([save('3.00'), save('4.00')], { guard: ['all'] })
    for (const { isolation, guard, anomalies, refusals } of drill.results) {
      const isOpen = guard === 'none' && isolation === 'read committed'
      expect([isolation, guard, anomalies.map(({ name }) => name)]).toEqual([
        isolation,
        guard,
        isOpen ? ['lost update'] : [],
      ])
      if (guard === 'version' && isolation === 'read committed') expect(refusals).toEqual({ 'record-changed': 18 })
    }
    const [lost] = drill.results.find(({ anomalies }) => anomalies.length > 0)?.anomalies ?? []
    expect(lost?.schedule.at(-1)).toMatchObject({ step: 'commit', action: 'ran' })
    expect(lost?.schedule.filter(({ writes }) => writes.length > 0)).toMatchObject([
      { writes: [{ before: { hoursLeft: '18.50' } }] },
      { writes: [{ key: { code: 'P-107' } }] },
    ])
  })

  it('raises no alarm where rows are locked in order, samples what is too much, and tries 70 schedules soon', async () => {
    const drill = await interleave([move('P-107', 'P-112', '4'), move('P-112', 'P-107', '1')], {
      isolation: ['read committed'],
      atMost: 60,
      seed: 11,
    })
    expect(drill).toMatchObject({ passed: true, sampled: true, seed: 11, possible: 924, results: [{ tried: 60 }] })
    const seventy = await interleave(
      [steps(load('P-107'), load('P-112'), less('P-107', 1)), steps(load('P-112'), load('P-107'), less('P-112', 1))],
      { isolation: ['read committed'] },
    )
    expect(seventy).toMatchObject({ possible: 70, sampled: false, results: [{ tried: 70 }] })
  })

  it('shows what a statement of its own read, by the names of its columns where they have some', async () => {
    const read = { sql: `select hours_left, 1, 2 from programme where code = 'P-107'` }
    const { results } = await interleave([steps(read, read), steps(less('P-107', 1))], {
      isolation: ['read committed'],
    })
    const reads = results[0]?.anomalies[0]?.schedule.flatMap((step) => step.reads.map(({ values }) => values))
    expect(reads?.[0]).toEqual({ hours_left: '18.50', 'column 2': '1', 'column 3': '2' })
  })

  it('recognises runs that wait for each other, whom the server breaks off', async () => {
    const drill = await interleave(
      [steps(less('P-107', 1), less('P-112', 1)), steps(less('P-112', 1), less('P-107', 1))],
      {
        isolation: ['read committed'],
      },
    )
    expect(drill.passed).toBe(true)
    expect(drill.results[0]?.refusals['deadlock']).toBeGreaterThan(0)
  })
})

describe('under faults', () => {
  it('a transaction leaves all or nothing, and the caller is told so', async () => {
    const before = await everything()
    const drill = await target().drill({
      kind: 'fault',
      transaction: 'move-hours',
      params: { from: 'P-107', to: 'P-112', hours: '12' },
    })
    expect(drill.passed).toBe(true)
    expect(drill.undisturbed).toMatchObject({ outcome: 'committed', agrees: true })
    expect(drill.undisturbed.differing).toHaveLength(3)
    const told = Object.fromEntries(drill.results.map(({ fault, outcome }) => [fault, outcome]))
    expect(told).toMatchObject({
      'error before step 1': 'rule-broken',
      'error before commit': 'rule-broken',
      'connection dropped after step 4': 'target-unavailable',
      'connection dropped during commit, before the server has it': 'target-unavailable',
      'connection dropped during commit, before the answer': 'committed',
      'time limit at step 6': 'time-limit',
      'row held: programme P-107': 'lock-timeout',
      'table held: public.programme': 'lock-timeout',
    })
    for (const { outcome, differing } of drill.results) expect(differing).toHaveLength(outcome === 'committed' ? 3 : 0)
    expect(drill.scratch.tables).toEqual(expect.arrayContaining([{ table: 'public.programme', rows: 2 }]))
    expect(await everything()).toEqual(before)
    expect(await leftDatabases()).toEqual([])
  })

  it('what another changed between load and save is refused by the guard, and told as lost without one', async () => {
    const faults = ['row-changed', 'row-removed'] as const
    const guarded = await target().drill({ kind: 'fault', run: save('3.00'), faults: [...faults] })
    expect(guarded.results.map(({ outcome }) => outcome)).toEqual(['record-changed', 'no-such-record'])
    const blind = steps(
      { ...load('P-107'), as: 'it' },
      { change: 'programme', key: { code: `'P-107'` }, guard: 'any', compute: { hoursLeft: 'it.hoursLeft - 1' } },
    )
    const lost = await target().drill({ kind: 'fault', run: blind, faults: ['row-changed'] })
    expect(lost).toMatchObject({ passed: false, results: [{ outcome: 'committed', agrees: false }] })
    expect(lost.results[0]?.message).toMatch(/hours_left/)
    const nextNight = steps(
      { load: 'block', key: { id: '1' }, as: 'it' },
      { change: 'block', key: { id: '1' }, guard: 'any', compute: { night: 'it.night + 1' } },
    )
    const later = await target().drill({ kind: 'fault', run: nextNight, faults: ['row-changed'] })
    expect(later.results.map(({ agrees, message }) => [agrees, /night/.test(message ?? '')])).toEqual([[false, true]])
  })

  it('a row that says what another changed is not taken for a missing one', async () => {
    await service.observatory.sql(`create table spent (left_now numeric, at timestamptz default clock_timestamp());
      grant insert on spent to ledgerman_worker; grant select on spent to ledgerman_worker;
      create function note_spent() returns trigger language plpgsql as $$ begin insert into spent (left_now) values (new.hours_left); return null; end $$;
      create trigger note_spent after update on programme for each row execute function note_spent()`)
    const run = steps(load('P-107'), { ...less('P-107', 1) })
    const noted = await target().drill({ kind: 'fault', run, faults: ['row-changed', 'error'] })
    await service.observatory.sql('drop table spent; drop function note_spent cascade')
    expect([noted.undisturbed.differing.length, noted.passed]).toEqual([2, true])
    expect(noted.results.filter(({ outcome }) => outcome === 'committed')).toHaveLength(1)
  })

  it('copies nothing that must not be seen, says what it left out, and refuses what it cannot do', async () => {
    const drill = await target().drill({
      kind: 'interleaving',
      runs: [steps(load('P-107'), load('P-107')), steps(less('P-107', 1))],
      isolation: ['read committed'],
    })
    const [email] = await service.observatory.sql(`select contact_email from programme where code = 'P-107'`)
    expect(JSON.stringify(drill)).not.toContain(String(email?.['contact_email']))
    expect(drill.scratch.notes.join()).toMatch(/contact_email of public.programme/)
    const post = (body: object, token?: string) =>
      service.request('POST', '/v1/targets/observatory/drills', {
        headers: { 'content-type': 'application/json' },
        body,
        ...(token ? { token } : {}),
      })
    const { token } = await service.client.addToken({ name: 'writer', role: 'writer' })
    expect((await post({ kind: 'fault', transaction: 'move-hours' }, token)).status).toBe(403)
    expect((await post({ kind: 'fault', transaction: 'move-hour' })).body).toMatchObject({ status: 404 })
    expect((await post({ kind: 'fault', transaction: 'move-hours', faults: ['fire'] })).body).toMatchObject({
      code: 'request-invalid',
    })
    expect((await post({ kind: 'interleaving', runs: [save('3.00')] })).body).toMatchObject({ code: 'request-invalid' })
  })
})

describe('many at once', () => {
  it('keep what has to stay, or are told to have broken it', async () => {
    const race = await target().drill({
      kind: 'race',
      runs: [move('P-107', 'P-112', '1'), move('P-112', 'P-107', '1')],
      times: 60,
      atOnce: 8,
      keep: ['sum(programme.hoursLeft)', 'min(programme.hoursLeft) >= 0'],
    })
    expect(race).toMatchObject({ passed: true, committed: 60, refused: 0 })
    expect(race.kept.map(({ held, before }) => [held, before])).toEqual([
      [true, '49.75'],
      [true, 'true'],
    ])
    const careless = steps(
      { ...load('P-107'), as: 'giver' },
      { change: 'programme', key: { code: `'P-107'` }, guard: 'any', compute: { hoursLeft: 'giver.hoursLeft - 0.1' } },
      { change: 'programme', key: { code: `'P-112'` }, guard: 'any', compute: { hoursLeft: 'hoursLeft + 0.1' } },
    )
    const broken = await target().drill({
      kind: 'race',
      runs: [careless],
      times: 60,
      atOnce: 8,
      keep: ['sum(programme.hoursLeft)'],
    })
    expect(broken).toMatchObject({ passed: false, kept: [{ held: false, before: '49.75' }] })
    await expect(
      target().drill({ kind: 'race', runs: [careless], times: 1, keep: ['sum(programme.hoursLft)'] }),
    ).rejects.toMatchObject({ code: 'expression-invalid', detail: expect.stringMatching(/Did you mean hoursLeft/) })
  })
})

describe('what a crash leaves behind', () => {
  it('is dropped at the next start, and what is in use or just begun is not', async () => {
    const [old, young] = ['ledgerman_drill_1700000000_aa', `ledgerman_drill_${Math.floor(Date.now() / 1000)}_aa`]
    for (const name of [old, young]) await service.home.sql(`create database ${name}`)
    expect(await sweepScratch(service.home.ownerUrl)).toEqual([old])
    const there = (await scratchDatabases()).map(({ datname }) => datname)
    expect([there.includes(young), there.includes(old)]).toEqual([true, false])
    await service.home.sql(`drop database ${young}`)
  })
})

describe('step by step', () => {
  it('shows after each step what is pending and what is locked, and leaves nothing behind', async () => {
    const before = await everything()
    let walk = await target().beginWalk(move('P-107', 'P-112', '4'))
    const { id } = walk
    expect(walk).toMatchObject({ state: 'going', at: 0, pending: [], locks: [] })
    for (let step = 1; step <= 4; step++) walk = await target().nextStep(id)
    expect(walk.pending).toMatchObject([
      { table: 'public.programme', before: { hours_left: '18.50' }, after: { hours_left: '14.50' } },
    ])
    expect(walk.locks[0]).toMatchObject({ lock: 'row', rows: [{ code: 'P-107' }, { code: 'P-112' }] })
    for (let step = 5; step <= 7; step++) walk = await target().nextStep(id)
    expect(walk).toMatchObject({ state: 'done', outcome: 'committed' })
    expect(walk.pending).toHaveLength(2)
    await target().stopWalk(id)
    await expect(target().nextStep(id)).rejects.toMatchObject({ code: 'not-found' })
    expect(await leftDatabases()).toEqual([])
    expect(await everything()).toEqual(before)
  })
})

describe('the code that is written', () => {
  const withCode = (form: 'plain' | 'booked') => ({ code: form })

  it('is told the truth about, under every fault, as its definition is', async () => {
    const params = { from: 'P-107', to: 'P-112', hours: '4' }
    const request = { kind: 'fault', transaction: 'move-hours', params } as const
    const [own, code] = [await target().drill(request), await target().drill({ ...request, ...withCode('booked') })]
    expect([own.of, code.of, own.passed, code.passed]).toEqual(['definition', 'code', true, true])
    expect(code.results.map(({ fault }) => fault)).toEqual(own.results.map(({ fault }) => fault))
    const rows = ({ results }: typeof code) => results.map(({ differing }) => differing.length)
    expect(rows(code)).toEqual(rows(own))
    const lost = code.results.find(({ fault }) => fault.endsWith('before the answer'))
    expect(lost).toMatchObject({ outcome: 'outcome-unknown', message: expect.stringMatching(/committed as a whole/) })
  })

  it('goes through the same interleavings, and loses an update where its definition does', async () => {
    const careless = `transaction: careless
params: { code: { type: text }, hours: { type: numeric } }
steps:
  - { load: programme, as: p, key: { code: ':code' } }
  - { change: programme, key: { code: ':code' }, guard: any, compute: { hoursLeft: 'p.hoursLeft - :hours' }, expect: 1 }
`
    await target().publish([{ source: careless }])
    const runs = ['1', '2'].map((hours) => ({ transaction: 'careless', params: { code: 'P-107', hours } }))
    const [own, code] = [await interleave(runs), await interleave(runs, withCode('plain'))]
    const cells = ({ results }: InterleavingDrill) =>
      results.map(({ isolation, tried, committed, refusals, anomalies }) => [
        isolation,
        tried,
        committed,
        refusals,
        anomalies.reduce((sum, { schedules }) => sum + schedules, 0),
      ])
    expect(cells(code)).toEqual(cells(own))
    expect(code.passed).toBe(false)
    expect(code.results[0]?.anomalies[0]?.schedule.length).toBeGreaterThan(3)
  })

  it('is raced, and keeps what has to stay; steps that are sent have none', async () => {
    const runs = [move('P-107', 'P-112', '0.10'), move('P-112', 'P-107', '0.10')]
    const race = { kind: 'race' as const, runs, times: 100, keep: ['sum(programme.hoursLeft)'], ...withCode('booked') }
    expect(await target().drill(race)).toMatchObject({ of: 'code', passed: true, committed: 100, refused: 0 })
    await expect(target().drill({ kind: 'fault', run: save('3.00'), ...withCode('plain') })).rejects.toMatchObject({
      code: 'request-invalid',
      detail: expect.stringMatching(/no published transaction/),
    })
    expect(await leftDatabases()).toEqual([])
  })
})
