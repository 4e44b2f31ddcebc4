import { setTimeout as delay } from 'node:timers/promises'
import { countsOf as counts, sendSteps, type ToldStep as Step } from '../../../../testing/sent-steps.js'
import { startTestService, type RunningService } from '../../../../testing/running-service.js'

// Every kind of step, and what may stand beside it, as a caller sends them and reads what became of them.
let service: RunningService
const sql = (text: string) => service.observatory.sql(text)
const rehearse = sendSteps(() => service, 'rehearse')
const commit = sendSteps(() => service, 'commit')

beforeAll(async () => {
  service = await startTestService()
})
afterAll(() => service.stop())

describe('steps', () => {
  it('that load say how many, in which order they lock, and give names to later steps', async () => {
    const { status, body } = await commit(
      [
        { load: 'programme', as: 'all', where: "semester = '2026A'", expect: '2..', lock: 'share' },
        { load: 'programme', as: 'one', key: { code: ':code' }, lock: 'change' },
        { load: 'observer', as: 'lead', key: { id: 'one.leadId' } },
        { require: "lead.familyName <> '' and matched(all) > 1 and changed(all) = 0" },
        { change: 'one', compute: { title: "lead.familyName || ': ' || one.title" } },
        { require: "one.title not like '%: %'", otherwise: '{one.title} is as it was loaded.' },
      ],
      { params: { code: 'P-103' } },
    )
    expect(status).toBe(201)
    const [all, one, , , changed] = body.steps as Step[]
    expect(all?.rows.map(({ key }) => key)).toEqual(
      [...(all?.rows ?? [])].map(({ key }) => key).sort((a, b) => JSON.stringify(a).localeCompare(JSON.stringify(b))),
    )
    expect([one?.matched, changed?.changed]).toEqual([1, 1])
    const [{ title } = {}] = await sql(`select title from programme where code = 'P-103'`)
    expect(title).toMatch(/^\p{L}+: /u)
  })

  it('that change by a condition compute from the row itself, count, and show before and after', async () => {
    const before = await sql(
      `select sum(hours_left)::text as hours, count(*)::int as n from programme where semester = '2026A'`,
    )
    const { body } = await commit(
      [
        {
          change: 'programme',
          as: 'cut',
          where: 'semester = :s',
          expect: Number(before[0]?.['n']),
          values: { tags: ['cut', "it's"] },
          compute: {
            hoursLeft: 'floor(hoursLeft * :part)',
            priority: 'case when hoursLeft > 50 then 1 else priority end',
          },
        },
        { require: 'changed(cut) = matched(cut)' },
      ],
      { params: { s: '2026A', part: '0.5' }, types: { part: 'numeric' } },
    )
    expect(body.outcome).toBe('committed')
    for (const { before: was, after } of (body.steps as Step[])[0]?.rows ?? []) {
      const [old, now] = [was, after] as { hoursLeft: string; tags: string[] }[]
      if (now && 'hoursLeft' in now) expect(Number(now.hoursLeft)).toBe(Math.floor(Number(old?.hoursLeft) / 2))
      expect(now?.tags).toEqual(['cut', "it's"])
    }
    expect(await sql(`select count(*)::int as n from programme where tags = '{cut,it''s}'`)).toEqual([
      { n: before[0]?.['n'] },
    ])
    const again = await commit([
      { change: 'programme', where: "semester = '2026A'", expect: 'some', values: { tags: ['cut', "it's"] } },
    ])
    expect(counts(again.body.steps)).toEqual([[before[0]?.['n'], 0]])
  })

  it('that compute say which values their columns rounded, in the receipt and in the book', async () => {
    const compute = (hoursLeft: string, more: object = {}) => ({
      change: 'programme',
      key: { code: "'P-102'" },
      guard: 'any',
      compute: { hoursLeft, ...more },
    })
    const rounded = async (step: object, params: object = {}) => {
      const { body } = await commit([step], { params })
      expect(body.outcome).toBe('committed')
      const entry = await service.request('GET', body.entry as string)
      expect((entry.body.receipt as { rounded?: object }).rounded).toEqual(body.rounded)
      return body.rounded as object[] | undefined
    }
    const hours = { step: 1, property: 'hoursLeft', to: 'numeric(6,2)' }
    expect(await rounded(compute('hoursLeft / 7'))).toEqual([hours])
    expect(
      await rounded(compute('hoursLeft + :more', { priority: 'priority * 1.5 - priority' }), { more: '1.255' }),
    ).toEqual(
      expect.arrayContaining([hours, { step: 1, property: 'priority', to: expect.stringMatching(/int/) as string }]),
    )
    expect(await rounded(compute('hoursLeft + :more - 0.10'), { more: '1.25' })).toBeUndefined()
    expect(await rounded(compute('round(hoursLeft / 7, 2)'))).toBeUndefined()
  })

  it('that change all, or remove, are refused unless that is said and counted', async () => {
    const all = (more: object) =>
      commit([{ change: 'telescope', where: 'code is not null', values: { status: 'retired' }, ...more }])
    const n = Number((await sql('select count(*)::int as n from telescope'))[0]?.['n'])
    expect((await all({})).body).toMatchObject({
      code: 'count-required',
      status: 400,
      detail: expect.stringMatching(/states no count/),
    })
    expect((await all({ expect: 'any' })).body).toMatchObject({ status: 409, code: 'count-mismatch' })
    expect((await all({ expect: n + 1, everyRow: true })).body).toMatchObject({
      status: 409,
      code: 'count-mismatch',
      expected: String(n + 1),
      matched: n,
    })
    expect(await sql(`select count(*)::int as n from telescope where status = 'retired'`)).not.toEqual([{ n }])
    const { body } = await rehearse([
      { change: 'telescope', everyRow: true, where: 'true', values: { status: 'retired' } },
      { remove: 'calibration', where: "telescope = 'HF1'", expect: 'some' },
      { remove: 'programme', key: { code: "'P-107'" }, when: '1 = 2' },
    ])
    expect(counts(body.steps).slice(1)).toEqual([expect.any(Array), 'skipped'])
    expect((body.steps as Step[])[1]?.rows[0]).toMatchObject({ before: expect.any(Object) as object, after: null })
    const token = body.rehearsal as string
    const one = [{ remove: 'hoursTransfer', where: 'hours > 0' }]
    expect((await commit(one, { rehearsal: token })).body.code).toBe('rehearsal-stale')
  })

  it('that take the first that nobody holds are each given others, however many ask at once', async () => {
    const take = (by: number, limit = 1, lockWait = 'skip') =>
      commit(
        [
          {
            load: 'block',
            as: 'next',
            where: "state = 'planned' and assignedTo is null",
            ...{ order: 'slot desc, id', limit, lock: 'change', expect: limit === 1 ? 'one' : 'any' },
          },
          ...(limit === 1 ? [{ change: 'next', compute: { assignedTo: ':by' } }] : []),
        ],
        { ...(limit === 1 ? { params: { by }, types: { by: 'integer' } } : {}), lockWait },
      )
    const takenOf = (steps: Step[]) => steps[0]?.rows.map(({ key }) => (key as { id: number }).id) ?? []
    const free = async () =>
      (await sql(`select id from block where state = 'planned' and assigned_to is null order by slot desc, id`)).map(
        ({ id }) => id as number,
      )
    const before = await free()
    const asked = Array.from({ length: 6 }, (_, at) => take((at % 3) + 1))
    const answers = await Promise.all(asked)
    expect(answers.map(({ body }) => body.outcome)).toEqual(asked.map(() => 'committed'))
    const taken = answers.flatMap(({ body }) => takenOf(body.steps as Step[]))
    expect(new Set(taken)).toEqual(new Set(before.slice(0, 6)))
    expect(takenOf((await take(1, 3)).body.steps as Step[])).toEqual(before.slice(6, 9))

    const holder = await service.observatory.session()
    await holder.query(`begin; update block set assigned_to = 1 where id = ${before[6]}`)
    expect(takenOf((await take(2)).body.steps as Step[])).toEqual([before[7]])
    const waiting = take(3, 1, '4s')
    await delay(200)
    await holder.query('commit')
    await holder.end()
    // The one that it waited for does not fit any more: the next one does.
    expect(takenOf((await waiting).body.steps as Step[])).toEqual([before[8]])

    await sql(`update block set assigned_to = 1 where assigned_to is null`)
    expect((await take(1)).body).toMatchObject({ code: 'count-mismatch', matched: 0 })
  })

  it('that take the first say of what, and how many', async () => {
    const load = { load: 'block', as: 'next', where: "state = 'planned'", expect: 'any' }
    const { body } = await rehearse([
      { ...load, order: 'slott, programme.code', limit: 2 },
      { ...load, as: 'all', order: 'slot' },
      { load: 'block', as: 'one', key: { id: '1' }, limit: 1 },
      { ...load, as: 'odd', order: 'slot sideways', limit: 1 },
      { ...load, as: 'few', expect: '3..', limit: 2 },
    ])
    expect(body.findings.map(({ where, message }: { where: string; message: string }) => [where, message])).toEqual([
      ['steps.1.order', 'slott is not a property of block. Did you mean slot?'],
      ['steps.1.order', 'programme.code follows a link; name properties of block itself'],
      ['steps.2.order', 'it says which rows are the first; say with limit how many of them are taken'],
      ['steps.3.limit', 'a key finds one row; limit goes with where'],
      ['steps.4.order', 'expected a property, then asc or desc, then nulls first or nulls last, got "slot sideways"'],
      ['steps.5.expect', 'it can never be 3: limit takes 2 at most'],
    ])
  })

  it('that add say what becomes of an existing record', async () => {
    const add = (onExisting: string, name: string) =>
      commit([
        { add: 'telescope', as: 'dome', values: { code: 'ADD', name, apertureM: '1.00' }, onExisting },
        { require: "dome.code = 'ADD'" },
      ])
    expect((await add('refuse', 'First')).body.outcome).toBe('committed')
    expect((await add('refuse', 'Second')).body).toMatchObject({
      status: 409,
      code: 'constraint-broken',
      step: 1,
      broken: [{ property: 'code', value: 'ADD' }],
    })
    const overdrawn = [
      { load: 'programme', as: 'p', key: { code: "'P-107'" } },
      { change: 'p', compute: { hoursLeft: ':hours' } },
    ]
    const { body } = await commit(overdrawn, { params: { hours: '999' } })
    expect(body.broken).toEqual(
      expect.arrayContaining([
        { property: 'hoursLeft', value: '999' },
        { property: 'hoursGranted', value: '69.00' },
      ]),
    )
    expect(
      counts(
        (
          await commit([
            { add: 'telescope', values: { code: 'ADD', name: 'Third', apertureM: '1.00' }, onExisting: 'keep' },
          ])
        ).body.steps,
      ),
    ).toEqual([[0, 0]])
    expect((await add('change', 'Fourth')).body.outcome).toBe('committed')
    expect(await sql(`select name, row_version from telescope where code = 'ADD'`)).toEqual([
      { name: 'Fourth', row_version: 2 },
    ])
    const replaced = await commit([
      {
        replace: 'telescope',
        key: { code: "'ADD'" },
        values: { name: 'Fifth', apertureM: '2.00', status: 'retired' },
        guard: 'v2',
      },
    ])
    expect(replaced.body.steps[0].rows[0]).toMatchObject({ after: { name: 'Fifth', status: 'retired' } })
    const stale = await commit([{ remove: 'telescope', key: { code: "'ADD'" }, guard: 'v2' }])
    expect(stale.body).toMatchObject({ status: 412, code: 'record-changed', guard: 'v3' })
    expect((await commit([{ remove: 'telescope', key: { code: "'ADD'" }, guard: 'v3' }])).body.outcome).toBe(
      'committed',
    )
  })

  it('of raw statements take parameters, state counts, and write only where they say so', async () => {
    const raw = {
      sql: 'update programme set priority = :p where semester = :s',
      changes: true,
      as: 'raised',
      expect: 'some',
    }
    const params = { p: 2, s: '2026B' }
    const untyped = await commit([raw], { params })
    expect(untyped.body.findings).toMatchObject([
      { where: 'steps.1.sql', message: expect.stringMatching(/:p needs a type here.*types/) as string },
      { where: 'steps.1.sql', message: expect.stringMatching(/:s needs a type/) as string },
    ])
    const types = { p: 'smallint', s: 'text' }
    const { body } = await commit([raw, { require: 'changed(raised) = matched(raised)' }], { params, types })
    expect([body.outcome, body.reversible]).toEqual(['committed', 'no'])
    expect(await sql(`select distinct priority from programme where semester = '2026B'`)).toEqual([{ priority: 2 }])
    const read = await rehearse([{ sql: 'select code from programme where semester = :s', expect: '1..500' }], {
      params: { s: '2026B' },
      types: { s: 'text' },
    })
    expect(read.body.steps[0]).toMatchObject({ kind: 'sql', changed: 0 })
    expect((await rehearse([{ ...raw, expect: 'none' }], { params, types })).body).toMatchObject({
      code: 'count-mismatch',
      step: 1,
    })
    const wrong: [string, RegExp][] = [
      ['commit', /got TRANSACTION/],
      ['set lock_timeout = 0', /got VARIABLE SET/],
      ['select 1; select 2', /exactly one statement, got 2/],
      ['drop table programme', /got DROP/],
      ['copy programme to stdout', /got COPY/],
      ['do $$ begin end $$', /got DO/],
      ['truncate programme', /got TRUNCATE/],
      [
        'with gone as (delete from programme returning 1) select * from gone',
        /the statement writes; say changes: true/,
      ],
      ['select * from programme for update', /./],
      ['selec 1', /syntax error/],
      ['', /./],
    ]
    for (const [text, message] of wrong) {
      const answer = await rehearse([{ sql: text }])
      if (answer.status === 200) expect(text).toMatch(/for update/)
      else expect([text, answer.status, answer.body.detail]).toEqual([text, 400, expect.stringMatching(message)])
    }
    expect((await sql('select count(*)::int as n from programme'))[0]?.['n']).toBeGreaterThan(50)
  })
})

describe('limits', () => {
  it('of a wait for a row or a table name who holds it, and leave rows out where that is asked', async () => {
    const other = await service.observatory.session()
    try {
      await other.query(`begin; select from programme where code = 'P-130' for update`)
      const change = {
        change: 'programme',
        where: "code in ('P-130', 'P-131')",
        expect: 'some',
        values: { priority: 5 },
      }
      const started = performance.now()
      const refused = await commit([change], { lockWait: '300ms' })
      expect(performance.now() - started).toBeLessThan(1_500)
      expect(refused.body).toMatchObject({
        status: 423,
        code: 'lock-timeout',
        step: 1,
        holder: { application: 'somebody else', state: expect.any(String) },
      })
      expect((await commit([change], { lockWait: 0 })).body.code).toBe('lock-timeout')
      const left = await commit([change], { lockWait: 'skip' })
      expect(left.body).toMatchObject({ outcome: 'committed', steps: [{ matched: 1, leftOut: [{ code: 'P-130' }] }] })
      await other.query('commit; begin; lock table observer in access exclusive mode')
      const table = await commit([{ change: 'observer', key: { badgeNo: "'B-002'" }, values: { active: false } }], {
        lockWait: '200ms',
      })
      expect(table.body).toMatchObject({ code: 'lock-timeout', holder: { application: 'somebody else' } })
    } finally {
      await other.query('rollback')
      await other.end()
    }
    expect(
      (await commit([{ change: 'observer', key: { badgeNo: "'B-002'" }, values: { active: false } }])).body.outcome,
    ).toBe('committed')
  })

  it('of time end a run, which leaves nothing, and the next one works', async () => {
    const slow = [
      { change: 'programme', key: { code: "'P-131'" }, values: { title: 'never' } },
      { sql: 'select pg_sleep(5)' },
    ]
    const { body } = await commit(slow, { timeLimit: '400ms' })
    expect(body).toMatchObject({ status: 504, code: 'time-limit', step: 2, receipt: { outcome: 'refused' } })
    expect(await sql(`select title from programme where code = 'P-131' and title = 'never'`)).toEqual([])
    expect((await rehearse([{ sql: 'select 1' }])).status).toBe(200)
  })

  it.each([
    [{ isolation: 'dirty' }, /isolation/],
    [{ lockWait: 'soon' }, /lockWait/],
    [{ timeLimit: '-1s' }, /timeLimit/],
    [{ steps: [] }, /steps/],
    [{ steps: 'all' }, /steps/],
    [{ params: [] }, /params/],
    [{ surprise: 1 }, /surprise/],
    [{ params: { c: 1 } }, /\bc\b/],
  ])('are refused as %j', async (more, words) => {
    const { status, body } = await rehearse([{ sql: 'select 1' }], more)
    expect([status, body.detail]).toEqual([400, expect.stringMatching(words)])
  })

  it('of isolation are kept, and told', async () => {
    for (const isolation of ['read committed', 'repeatable read', 'serializable']) {
      const { body } = await commit(
        [{ change: 'programme', key: { code: "'P-132'" }, compute: { priority: 'priority' } }],
        { isolation },
      )
      expect(body).toMatchObject({ outcome: 'committed', isolation, attempts: 1 })
    }
  })
})

describe('many callers', () => {
  it('who move hours between the same few at once lose and make none', async () => {
    const codes = ['P-141', 'P-142', 'P-143']
    await sql(`update programme set hours_granted = 400, hours_left = 100 where code in ('P-141', 'P-142', 'P-143')`)
    const versions = `select sum(row_version)::int as total from programme where code in ('P-141', 'P-142', 'P-143')`
    const [before] = await sql(versions)
    const moves = Array.from({ length: 60 }, async (_, at) => {
      const params = { from: codes[at % 3], to: codes[(at + 1) % 3], hours: String(1 + (at % 4)) }
      const body = { mode: 'commit', transaction: 'move-hours', params }
      const headers = { 'content-type': 'application/json' }
      return (await service.request('POST', '/v1/targets/observatory/runs', { body, headers })).status
    })
    const statuses = await Promise.all(moves)
    // On a busy machine some of sixty wait longer for three rows than they may; those change nothing.
    expect(statuses.filter((status) => status !== 201 && status !== 423)).toEqual([])
    const committed = statuses.filter((status) => status === 201).length
    expect(committed).toBeGreaterThan(0)
    const rows = await sql(`select p.hours_left::text as left, p.row_version - 1 as bumps,
      (select count(*)::int from ledgerman.history h where h.key = jsonb_build_object('code', p.code)) as entries
      from programme p where code in ('P-141', 'P-142', 'P-143')`)
    expect(rows.reduce((sum, { left }) => sum + Number(left), 0)).toBe(300)
    for (const { bumps, entries } of rows) expect(entries).toBe(bumps)
    const [after] = await sql(versions)
    expect(Number(after?.total) - Number(before?.total)).toBe(2 * committed)
  })
})
