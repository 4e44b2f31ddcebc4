import type { Job } from '@ledgerman/contract'
import { counts, JOBS, told, startReadingJobs } from '../reading-jobs.js'

// Changes of many records by condition as a caller asks for them: what they did, and what they would not do.
let readings: Awaited<ReturnType<typeof startReadingJobs>>
beforeAll(async () => {
  readings = await startReadingJobs()
})
afterAll(() => readings.service.stop())

describe('a change by condition', () => {
  it('is rehearsed, looked at, and committed exactly so', async () => {
    const change = {
      mapping: 'reading',
      where: 'level <= :most',
      params: { most: 200 },
      compute: { level: 'level + 0.5' },
    }
    const rehearsed = await readings.ended(await readings.begin({ mode: 'rehearse', ...change }))
    expect(counts(rehearsed)).toEqual({ matched: 200, changed: 200 })
    expect(rehearsed.report.rows).toHaveLength(100)
    expect(rehearsed.report.rows[0]).toEqual({
      key: { id: 1 },
      before: { level: '1.00' },
      after: { level: '1.50' },
      alsoChanged: { before: { rowVersion: 1 }, after: { rowVersion: 2 } },
    })
    expect(await readings.sql('select count(*)::int as n from reading where row_version > 1')).toEqual([{ n: 0 }])

    const committed = await readings.ended(
      await readings.begin({ mode: 'commit', ...change, rehearsal: rehearsed.rehearsal, note: 'drift' }),
    )
    expect(counts(committed)).toEqual({ matched: 200, changed: 200 })
    expect(
      await readings.sql('select count(*)::int as n, sum(level)::text as sum from reading where row_version = 2'),
    ).toEqual([{ n: 200, sum: '20200.00' }])
    const entry = await readings.service.client.target('observatory').entry(committed.entries[0] ?? '')
    expect([entry.matched, entry.changed, entry.note, entry.condition]).toEqual([200, 200, 'drift', 'level <= :most'])
    expect(entry.receipt.reversible).toBe('yes')
    expect(entry.receipt.steps[0]?.rows).toHaveLength(100)
    // The images tell each row before and after, and a record's entries are found without one of them standing in an index.
    expect(
      await readings.sql(
        `select count(*)::int as n, sum((after->>'level')::numeric - (before->>'level')::numeric)::text as sum from ledgerman.history where id = '${committed.entries[0]}'`,
      ),
    ).toEqual([{ n: 200, sum: '100.00' }])
    const ofRecord = await readings.service.client.target('observatory').entries({ mapping: 'reading', key: ['0117'] })
    expect(ofRecord.entries.map(({ id }) => id)).toEqual(committed.entries)
    // Rows are others by now: the token has had its day.
    const again = await readings.ended(
      await readings.begin({ mode: 'commit', ...change, rehearsal: rehearsed.rehearsal }),
    )
    expect([again.state, again.problem?.code]).toEqual(['failed', 'rehearsal-stale'])
  })

  it('needs a count, a condition or a word that every row is meant', async () => {
    const change = { mapping: 'reading', values: { mark: 'x' } }
    const codes = await Promise.all(
      [
        { mode: 'commit', where: 'id < 3', ...change },
        { mode: 'rehearse', ...change },
        { mode: 'rehearse', mapping: 'reading', where: 'id < 3' },
        { mode: 'rehearse', mapping: 'reading', where: 'idd < 3', values: { mark: 'x' } },
        { mode: 'rehearse', mapping: 'reading', where: 'id < 3', values: { level: '1.234' } },
        { mode: 'rehearse', mapping: 'reading', where: 'id < 3', values: { rowVersion: 3 } },
        { mode: 'rehearse', mapping: 'reading', where: 'id < 3', remove: true, values: { mark: 'x' } },
      ].map(async (body) => (await readings.begin(body)).body.code as string),
    )
    expect(codes).toEqual([
      'count-required',
      'request-invalid',
      'request-invalid',
      'expression-invalid',
      'value-invalid',
      'request-invalid',
      'request-invalid',
    ])
    const wrong = await readings.ended(await readings.begin({ mode: 'commit', where: 'id < 3', expect: 3, ...change }))
    expect([wrong.problem?.code, wrong.problem?.['matched'], counts(wrong)]).toEqual([
      'count-mismatch',
      2,
      { matched: 2 },
    ])
    const all = await readings.ended(await readings.begin({ mode: 'rehearse', where: 'id > 0', ...change }))
    expect(all.problem?.code).toBe('count-required')
    expect(await readings.sql(`select count(*)::int as n from reading where mark = 'x'`)).toEqual([{ n: 0 }])
  })

  it('says which rows a rule, or a constraint, refuses, and leaves them all as they were', async () => {
    const ruled = await readings.ended(
      await readings.begin({
        mode: 'commit',
        mapping: 'reading',
        where: 'id between 1 and 9',
        compute: { level: 'level - 5' },
        expect: 'any',
      }),
    )
    expect([ruled.state, ruled.problem?.code, ruled.report.refused]).toEqual(['failed', 'rule-broken', 4])
    expect(told(ruled.report.sample)).toEqual([1, 2, 3, 4].map((id) => [null, String(id), 'rule-broken']))
    const broken = await readings.ended(
      await readings.begin({
        mode: 'commit',
        mapping: 'reading',
        where: 'id = 4000',
        compute: { level: 'level * 100' },
        expect: 1,
      }),
    )
    expect([broken.problem?.code, broken.problem?.['constraint']]).toEqual(['constraint-broken', 'level_is_small'])
    expect(await readings.sql('select count(*)::int as n from reading where level < 1 or row_version > 2')).toEqual([
      { n: 0 },
    ])
    const refused = await readings.service.client.target('observatory').entry(ruled.entries[0] ?? '')
    expect([refused.outcome, refused.problem]).toEqual(['refused', 'rule-broken'])
  })

  it('counts what it did not have to write, removes, and leaves no image where none is wanted', async () => {
    const flagged = await readings.ended(
      await readings.begin({
        mode: 'commit',
        mapping: 'reading',
        where: 'id > 4000',
        values: { flag: true },
        expect: 1000,
        images: 'none',
      }),
    )
    expect(counts(flagged)).toEqual({ matched: 1000, changed: 500, same: 500 })
    const { receipt } = await readings.service.client.target('observatory').entry(flagged.entries[0] ?? '')
    expect([receipt.reversible, receipt.steps[0]?.rows]).toEqual(['no', []])
    const removed = await readings.ended(
      await readings.begin({ mode: 'commit', mapping: 'reading', where: 'id > 4990', remove: true, expect: 10 }),
    )
    expect(counts(removed)).toEqual({ matched: 10, changed: 10 })
    expect(removed.report.rows[0]).toMatchObject({ key: { id: 4991 }, before: { mark: 'm4991' }, after: null })
    expect(await readings.sql('select max(id) as n from reading')).toEqual([{ n: 4990 }])
  })

  it('goes the way of locks where triggers write, and tells what they wrote', async () => {
    const { report } = await readings.ended(
      await readings.begin({
        mode: 'commit',
        mapping: 'programme',
        where: "lead.familyName <> 'X' and hoursLeft > 10",
        compute: { hoursLeft: 'hoursLeft - 1' },
        expect: 'some',
      }),
    )
    expect(report.changed).toBeGreaterThan(10)
    expect(report.rows[0]?.alsoChanged?.after).toMatchObject({ updatedAt: expect.any(String), rowVersion: 2 })
  })

  it('writes over nobody who is faster, and comes to its end all the same', async () => {
    const other = await readings.service.observatory.session()
    try {
      await other.query('begin')
      await other.query('update reading set level = level + 1000, row_version = row_version + 1 where id = 3000')
      const begun = await readings.begin({
        mode: 'commit',
        mapping: 'reading',
        where: 'id between 2990 and 3010',
        compute: { level: 'level + 1' },
        expect: 21,
      })
      await new Promise((resolve) => setTimeout(resolve, 500))
      await other.query('commit')
      const job = await readings.ended(begun)
      expect([job.state, counts(job)]).toEqual(['done', { matched: 21, changed: 21 }])
      expect(await readings.sql('select level::text from reading where id = 3000')).toEqual([{ level: '4001.00' }])
      await other.query('begin')
      await other.query('update reading set mark = mark where id = 3000')
      const held = await readings.ended(
        await readings.begin({
          mode: 'commit',
          mapping: 'reading',
          where: 'id = 3000',
          values: { mark: 'y' },
          expect: 1,
        }),
      )
      expect([
        held.state,
        held.problem?.code,
        (held.problem?.['holder'] as { application?: string } | null)?.application,
      ]).toEqual(['failed', 'lock-timeout', 'somebody else'])
    } finally {
      await other.end()
    }
  })
})

describe('jobs', () => {
  it('that are asked for again with the same key are begun once', async () => {
    const body = { mode: 'commit', mapping: 'reading', where: 'id = 81', compute: { level: 'level + 1' }, expect: 1 }
    const ask = (more: object = {}) =>
      readings.service.request('POST', JOBS, {
        body: { ...body, ...more },
        headers: { 'content-type': 'application/json', 'idempotency-key': 'night-7' },
      })
    const first = await ask()
    const again = await ask()
    expect([again.status, again.body.id]).toEqual([202, first.body.id])
    expect(counts(await readings.ended(again))).toEqual({ matched: 1, changed: 1 })
    expect((await ask({ expect: 'any' })).body.code).toBe('idempotency-key-reused')
    expect(await readings.sql('select level::text from reading where id = 81')).toEqual([{ level: '82.50' }])
  })

  it('are listed, cancelled while they run, resumed, and for those only who may see their target', async () => {
    const other = await readings.service.observatory.session()
    try {
      await other.query('begin; lock table reading in exclusive mode')
      const begun = await readings.begin({
        mode: 'commit',
        mapping: 'reading',
        where: 'id = 71',
        values: { mark: 'r' },
        expect: 1,
      })
      await new Promise((resolve) => setTimeout(resolve, 200))
      const cancelled = await readings.service.request('DELETE', `/v1/jobs/${begun.body.id}`)
      expect(cancelled.status).toBe(202)
      const job = await readings.ended(begun)
      expect([job.state, job.entries]).toEqual(['cancelled', []])
      await other.query('rollback')
      const resumed = await readings.ended(await readings.service.request('POST', `/v1/jobs/${job.id}/resume`))
      expect([resumed.state, counts(resumed)]).toEqual(['done', { matched: 1, changed: 1 }])
      const over = await readings.service.request('DELETE', `/v1/jobs/${job.id}`)
      expect([over.status, over.body.code]).toEqual([409, 'job-ended'])
    } finally {
      await other.end()
    }
    const { body } = await readings.service.request('GET', '/v1/jobs?state=cancelled')
    expect((body.jobs as Job[]).every(({ state }) => state === 'cancelled')).toBe(true)
    const { body: elsewhere } = await readings.service.request('POST', '/v1/tokens', {
      body: { name: 'elsewhere', role: 'reader', targets: ['observatory'] },
      headers: { 'content-type': 'application/json' },
    })
    await readings.service.home.sql(`update ledgerman_home.token set targets = '{other}' where name = 'elsewhere'`)
    const listed = await readings.service.request('GET', '/v1/jobs', { token: elsewhere.token as string })
    expect((listed.body.jobs as Job[]).map(({ target }) => target)).toEqual([])
    expect(
      await readings.sql(
        `select count(*)::int as n from pg_stat_activity where application_name like '%job%' and datname = current_database()`,
      ),
    ).toEqual([{ n: 0 }])
  })
})
