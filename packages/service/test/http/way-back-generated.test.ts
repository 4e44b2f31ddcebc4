import fc from 'fast-check'
import { isProblem, type Job, type RecordValues } from '@ledgerman/contract'
import { holdsFor } from '../../../../testing/generated.js'
import { startTestService, type RunningService } from '../../../../testing/running-service.js'

// Whatever is done through Ledgerman, in whatever order: it is put back whole, and every moment in between can be looked at.
let service: RunningService
const T = '/v1/targets/observatory'
const json = { 'content-type': 'application/json' }
const target = () => service.client.target('observatory')
const ROUNDS = Number(process.env['LEDGERMAN_TEST_WAY_BACK'] ?? 8)
const commit = { mode: 'commit' as const, guard: '*' }

const key = fc.constantFrom('HF1', 'HF2', 'HF7', 'HF8', 'HF9')
const programme = fc.constantFrom('P-101', 'P-107', 'P-112')
const hours = fc.constantFrom('0.25', '1.00', '3.50', '12')
const operation = fc.oneof(
  fc.record({
    do: fc.constant('change' as const),
    programme,
    values: fc.record(
      { hoursLeft: hours, title: fc.constantFrom('a', "b'c", 'ü'), tags: fc.constantFrom<string[]>([], ['x', 'y,z']) },
      { requiredKeys: [] },
    ),
  }),
  {
    weight: 3,
    arbitrary: fc.record({ do: fc.constant('add' as const), key, apertureM: fc.constantFrom(null, '1.50', '0.10') }),
  },
  {
    weight: 2,
    arbitrary: fc.record({ do: fc.constant('put' as const), key, apertureM: fc.constantFrom('1.50', '0.10') }),
  },
  fc.record({ do: fc.constant('remove' as const), key }),
  fc.record({ do: fc.constant('rename' as const), key, name: fc.constantFrom('One', 'Two') }),
  {
    weight: 4,
    arbitrary: fc.record({
      do: fc.constant('rekey' as const),
      key,
      to: key,
      by: fc.constantFrom('key', 'condition', 'job'),
    }),
  },
  fc.record({ do: fc.constant('rekeyTwice' as const), key, by: key, to: key }),
  fc.record({ do: fc.constant('move' as const), from: programme, to: programme, hours }),
  fc.record({
    do: fc.constant('many' as const),
    from: fc.integer({ min: 0, max: 20 }),
    by: fc.integer({ min: 1, max: 3 }),
    images: fc.constantFrom('full' as const, 'changed' as const),
  }),
  fc.record({ do: fc.constant('removeMany' as const), above: fc.integer({ min: 18, max: 40 }) }),
  fc.record({ do: fc.constant('undo' as const), back: fc.integer({ min: 0, max: 3 }) }),
)
type Operation = typeof operation extends fc.Arbitrary<infer O> ? O : never

async function job(body: object): Promise<void> {
  const begun = await service.request('POST', `${T}/jobs`, {
    body: { mode: 'commit', expect: 'any', ...body },
    headers: json,
  })
  expect((await ended(begun))?.problem ?? null).toBeNull()
}

async function ended(begun: { body: { id?: unknown } }): Promise<Job | undefined> {
  let last: Job | undefined
  for await (const now of service.client.followJob(String(begun.body.id))) last = now
  return last
}

/** Does it; what is refused is refused, and changes nothing. */
async function perform(each: Operation): Promise<void> {
  const of = target()
  const ignore = () => undefined
  if (each.do === 'change') {
    if (Object.keys(each.values).length > 0)
      await of.change('programme', [each.programme], each.values as RecordValues, commit).catch(ignore)
  } else if (each.do === 'add')
    await of
      .add('telescope', { code: each.key, name: 'New', apertureM: each.apertureM ?? '1.00' }, { mode: 'commit' })
      .catch(ignore)
  else if (each.do === 'put') {
    const values = { code: each.key, name: 'Put', apertureM: each.apertureM }
    await of.run({ mode: 'commit', steps: [{ add: 'telescope', values, onExisting: 'change' }] })
  } else if (each.do === 'remove') await of.remove('telescope', [each.key], commit).catch(ignore)
  else if (each.do === 'rename') await of.change('telescope', [each.key], { name: each.name }, commit).catch(ignore)
  else if (each.do === 'rekey') {
    const [where, compute] = [`code = '${each.key}'`, { code: `'${each.to}'`, name: "name || '+'" }]
    const job = { mode: 'commit', mapping: 'telescope', expect: 'any', where, compute }
    if (each.by === 'key') await of.change('telescope', [each.key], { code: each.to }, commit).catch(ignore)
    else if (each.by === 'condition')
      await of.run({ mode: 'commit', steps: [{ change: 'telescope', expect: 'any', where, compute }] }).catch(ignore)
    else await service.request('POST', `${T}/jobs`, { body: job, headers: json }).then(ended)
  } else if (each.do === 'rekeyTwice') {
    const step = (from: string, to: string) => ({
      change: 'telescope',
      key: { code: `'${from}'` },
      values: { code: to },
    })
    await of.run({ mode: 'commit', steps: [step(each.key, each.by), step(each.by, each.to)] }).catch(ignore)
  } else if (each.do === 'move')
    await of
      .run({ mode: 'commit', transaction: 'move-hours', params: { from: each.from, to: each.to, hours: each.hours } })
      .catch(ignore)
  else if (each.do === 'many')
    await job({
      mapping: 'calibration',
      where: `frames > ${each.from}`,
      compute: { frames: `frames + ${each.by}` },
      everyRow: true,
      images: each.images,
    })
  else if (each.do === 'removeMany')
    await job({ mapping: 'calibration', where: `frames > ${each.above}`, remove: true, images: 'full', everyRow: true })
  else {
    const { entries } = await of.entries({ outcome: 'committed', limit: 5 })
    const entry = entries[each.back]
    if (entry) await of.reverse(entry.id, { mode: 'commit' }).catch(ignore)
  }
}

/** Everything in the tables, versions and what a trigger writes apart. */
const everything = () =>
  service.observatory
    .sql(`select 'p' as t, to_jsonb(p) - 'row_version' - 'updated_at' as r from programme p union all select 't', to_jsonb(t) - 'row_version' from telescope t
    union all select 'c', to_jsonb(c) from calibration c union all select 'h', to_jsonb(h) from hours_transfer h order by 1, 2`)

beforeAll(async () => {
  service = await startTestService()
  // Two that nothing refers to, so that they can be given other codes.
  await service.observatory.sql(
    `insert into telescope (code, name, aperture_m) values ('HF7', 'Seven', 1), ('HF8', 'Eight', 2)`,
  )
  const { source } = await target().mapping('telescope')
  await target().publishMapping(
    'telescope',
    source.replace('code: { column: code, fixed: true }', 'code: { column: code }'),
  )
})
afterAll(() => service.stop())

it('all that was done since a moment is put back, byte for byte', async () => {
  await holdsFor(
    ROUNDS,
    fc.asyncProperty(fc.array(operation, { minLength: 1, maxLength: 10 }), async (operations) => {
      const before = await everything()
      const since = new Date().toISOString()
      for (const each of operations) await perform(each)
      const { entries } = await target().entries({ from: since, outcome: 'committed', limit: 50 })
      if (entries.every(({ changed }) => changed === 0)) return
      const answer = await service.request('POST', `${T}/reversals`, { body: { mode: 'commit', since }, headers: json })
      expect([answer.status, answer.body.outcome ?? answer.body.detail]).toEqual([201, 'committed'])
      expect(await everything()).toEqual(before)
    }),
    { endOnFailure: true },
  )
})

it('every record is as it was at every moment in between', async () => {
  await holdsFor(
    ROUNDS,
    fc.asyncProperty(fc.array(operation, { minLength: 2, maxLength: 6 }), async (operations) => {
      const seen: { at: string; records: Map<string, RecordValues> }[] = []
      for (const each of operations) {
        await perform(each)
        const [now] = await service.observatory.sql(
          `select to_char(clock_timestamp() at time zone 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS.US"Z"') as at`,
        )
        const records = (await target().find('telescope', { limit: 100 })).found
        seen.push({
          at: String(now?.['at']),
          records: new Map(records.map((record) => [String(record['code']), record])),
        })
      }
      for (const { at, records } of seen)
        for (const code of ['HF1', 'HF2', 'HF7', 'HF8', 'HF9']) {
          // Of what was never there the book has nothing, and says so.
          const { record } = await target()
            .loadAsOf('telescope', [code], at)
            .catch((error: unknown) => {
              if (isProblem(error, 'no-such-record')) return { record: null }
              throw error
            })
          expect([at, code, record]).toEqual([at, code, records.get(code) ?? null])
        }
    }),
    { endOnFailure: true },
  )
})
