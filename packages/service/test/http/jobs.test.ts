import type { FailedRow, Job, JobReport } from '@ledgerman/contract'
import { startTestService, type Reply, type RunningService } from '../../../../testing/running-service.js'

// Changes of many records as a caller asks for them: by condition, from a file, in chunks; what they did, and what they would not do.
let service: RunningService
const JOBS = '/v1/targets/observatory/jobs'
const sql = (text: string) => service.observatory.sql(text)
const begin = (body: object) => service.request('POST', JOBS, { body, headers: { 'content-type': 'application/json' } })
const send = (file: string | Uint8Array, query: Record<string, string>, contentType = 'text/csv') =>
  service.request('POST', `${JOBS}?${new URLSearchParams({ mode: 'commit', ...query })}`, {
    body: file,
    headers: { 'content-type': contentType },
  })

/** The job once it is over. */
async function ended(begun: Reply): Promise<Job & { report: JobReport }> {
  expect([begun.status, begun.text]).toEqual([202, expect.any(String)])
  let last: Job | undefined
  for await (const job of service.client.followJob(begun.body.id as string)) last = job
  return last as Job & { report: JobReport }
}
const counts = ({ report }: Job & { report: JobReport }) => {
  const { sample: _, rows: __, ...numbers } = report
  return Object.fromEntries(Object.entries(numbers).filter(([, count]) => count !== 0))
}
const told = (rows: FailedRow[]) => rows.map(({ line, key, code }) => [line, Object.values(key).join(), code])

beforeAll(async () => {
  service = await startTestService()
  await sql(`create table reading (id integer primary key, mark text, level numeric(8,2) not null, flag boolean, row_version integer not null default 1,
    constraint level_is_small check (level < 90000));
    insert into reading (id, mark, level, flag) select n, 'm' || n, n, n % 2 = 0 from generate_series(1, 5000) n;
    grant all on reading to ledgerman_worker`)
  await service.client.target('observatory').publishMapping(
    'reading',
    `mapping: reading
table: public.reading
key: [id]
guard: { by: version, property: rowVersion }
properties: { id: { column: id }, mark: { column: mark }, level: { column: level }, flag: { column: flag }, rowVersion: { column: row_version } }
rules: [{ that: 'level >= 0', otherwise: A level is never below zero. }]`,
  )
})
afterAll(() => service.stop())

describe('a change by condition', () => {
  it('is rehearsed, looked at, and committed exactly so', async () => {
    const change = {
      mapping: 'reading',
      where: 'level <= :most',
      params: { most: 200 },
      compute: { level: 'level + 0.5' },
    }
    const rehearsed = await ended(await begin({ mode: 'rehearse', ...change }))
    expect(counts(rehearsed)).toEqual({ matched: 200, changed: 200 })
    expect(rehearsed.report.rows).toHaveLength(100)
    expect(rehearsed.report.rows[0]).toEqual({
      key: { id: 1 },
      before: { level: '1.00' },
      after: { level: '1.50' },
      alsoChanged: { before: { rowVersion: 1 }, after: { rowVersion: 2 } },
    })
    expect(await sql('select count(*)::int as n from reading where row_version > 1')).toEqual([{ n: 0 }])

    const committed = await ended(
      await begin({ mode: 'commit', ...change, rehearsal: rehearsed.rehearsal, note: 'drift' }),
    )
    expect(counts(committed)).toEqual({ matched: 200, changed: 200 })
    expect(await sql('select count(*)::int as n, sum(level)::text as sum from reading where row_version = 2')).toEqual([
      { n: 200, sum: '20200.00' },
    ])
    const entry = await service.client.target('observatory').entry(committed.entries[0] ?? '')
    expect([entry.matched, entry.changed, entry.note, entry.condition]).toEqual([200, 200, 'drift', 'level <= :most'])
    expect(entry.receipt.reversible).toBe('yes')
    expect(entry.receipt.steps[0]?.rows).toHaveLength(100)
    // The images tell each row before and after, and a record's entries are found without one of them standing in an index.
    expect(
      await sql(
        `select count(*)::int as n, sum((after->>'level')::numeric - (before->>'level')::numeric)::text as sum from ledgerman.history where id = '${committed.entries[0]}'`,
      ),
    ).toEqual([{ n: 200, sum: '100.00' }])
    const ofRecord = await service.client.target('observatory').entries({ mapping: 'reading', key: ['0117'] })
    expect(ofRecord.entries.map(({ id }) => id)).toEqual(committed.entries)
    // Rows are others by now: the token has had its day.
    const again = await ended(await begin({ mode: 'commit', ...change, rehearsal: rehearsed.rehearsal }))
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
      ].map(async (body) => (await begin(body)).body.code as string),
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
    const wrong = await ended(await begin({ mode: 'commit', where: 'id < 3', expect: 3, ...change }))
    expect([wrong.problem?.code, wrong.problem?.['matched'], counts(wrong)]).toEqual([
      'count-mismatch',
      2,
      { matched: 2 },
    ])
    const all = await ended(await begin({ mode: 'rehearse', where: 'id > 0', ...change }))
    expect(all.problem?.code).toBe('count-required')
    expect(await sql(`select count(*)::int as n from reading where mark = 'x'`)).toEqual([{ n: 0 }])
  })

  it('says which rows a rule, or a constraint, refuses, and leaves them all as they were', async () => {
    const ruled = await ended(
      await begin({
        mode: 'commit',
        mapping: 'reading',
        where: 'id between 1 and 9',
        compute: { level: 'level - 5' },
        expect: 'any',
      }),
    )
    expect([ruled.state, ruled.problem?.code, ruled.report.refused]).toEqual(['failed', 'rule-broken', 4])
    expect(told(ruled.report.sample)).toEqual([1, 2, 3, 4].map((id) => [null, String(id), 'rule-broken']))
    const broken = await ended(
      await begin({
        mode: 'commit',
        mapping: 'reading',
        where: 'id = 4000',
        compute: { level: 'level * 100' },
        expect: 1,
      }),
    )
    expect([broken.problem?.code, broken.problem?.['constraint']]).toEqual(['constraint-broken', 'level_is_small'])
    expect(await sql('select count(*)::int as n from reading where level < 1 or row_version > 2')).toEqual([{ n: 0 }])
    const refused = await service.client.target('observatory').entry(ruled.entries[0] ?? '')
    expect([refused.outcome, refused.problem]).toEqual(['refused', 'rule-broken'])
  })

  it('counts what it did not have to write, removes, and leaves no image where none is wanted', async () => {
    const flagged = await ended(
      await begin({
        mode: 'commit',
        mapping: 'reading',
        where: 'id > 4000',
        values: { flag: true },
        expect: 1000,
        images: 'none',
      }),
    )
    expect(counts(flagged)).toEqual({ matched: 1000, changed: 500, same: 500 })
    const { receipt } = await service.client.target('observatory').entry(flagged.entries[0] ?? '')
    expect([receipt.reversible, receipt.steps[0]?.rows]).toEqual(['no', []])
    const removed = await ended(
      await begin({ mode: 'commit', mapping: 'reading', where: 'id > 4990', remove: true, expect: 10 }),
    )
    expect(counts(removed)).toEqual({ matched: 10, changed: 10 })
    expect(removed.report.rows[0]).toMatchObject({ key: { id: 4991 }, before: { mark: 'm4991' }, after: null })
    expect(await sql('select max(id) as n from reading')).toEqual([{ n: 4990 }])
  })

  it('goes the way of locks where triggers write, and tells what they wrote', async () => {
    const { report } = await ended(
      await begin({
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
    const other = await service.observatory.session()
    try {
      await other.query('begin')
      await other.query('update reading set level = level + 1000, row_version = row_version + 1 where id = 3000')
      const begun = await begin({
        mode: 'commit',
        mapping: 'reading',
        where: 'id between 2990 and 3010',
        compute: { level: 'level + 1' },
        expect: 21,
      })
      await new Promise((resolve) => setTimeout(resolve, 500))
      await other.query('commit')
      const job = await ended(begun)
      expect([job.state, counts(job)]).toEqual(['done', { matched: 21, changed: 21 }])
      expect(await sql('select level::text from reading where id = 3000')).toEqual([{ level: '4001.00' }])
      await other.query('begin')
      await other.query('update reading set mark = mark where id = 3000')
      const held = await ended(
        await begin({ mode: 'commit', mapping: 'reading', where: 'id = 3000', values: { mark: 'y' }, expect: 1 }),
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

describe('a file of corrections', () => {
  it('is applied as one, nulls and empty texts apart, and what was like that already is left', async () => {
    const file = 'id,mark,level\r\n11,,11.25\r\n12,"",12.5\r\n13,"say ""hi"",\nline two",13.00\r\n14,m14,14.50\r\n'
    const job = await ended(await send(file, { mapping: 'reading' }))
    expect(counts(job)).toEqual({ matched: 4, changed: 3, same: 1 })
    expect(await sql('select id, mark, level::text from reading where id between 11 and 14 order by id')).toEqual([
      { id: 11, mark: null, level: '11.25' },
      { id: 12, mark: '', level: '12.50' },
      { id: 13, mark: 'say "hi",\nline two', level: '13.00' },
      { id: 14, mark: 'm14', level: '14.50' },
    ])
    const lines = '{"id":21,"mark":null,"level":"21.75"}\n{"id":22,"mark":"n","level":22.1}\n'
    expect(counts(await ended(await send(lines, { mapping: 'reading' }, 'application/x-ndjson')))).toEqual({
      matched: 2,
      changed: 2,
    })
    expect(await sql('select level::text from reading where id = 22')).toEqual([{ level: '22.10' }])
  })

  it('is all or nothing: each row that cannot be applied is told with its line and key', async () => {
    const file = 'id,level,g\n1031,1,v1\n9999,1,v1\n1032,1,v7\n1033,-1,v1\n1034,95000,v1\n1035,2,v1\n'
    const job = await ended(await send(file, { mapping: 'reading', guard: 'g' }))
    expect([job.state, counts(job)]).toEqual(['failed', { matched: 5, notFound: 1, refused: 2 }])
    expect(told(job.report.sample)).toEqual([
      [3, '9999', 'no-such-record'],
      [4, '1032', 'record-changed'],
      [5, '1033', 'rule-broken'],
    ])
    const twice = await ended(await send('id,level\n1031,1\n1032,2\n1031,3\n', { mapping: 'reading' }))
    expect(told(twice.report.sample)).toEqual([
      [2, '1031', 'record-ambiguous'],
      [4, '1031', 'record-ambiguous'],
    ])
    const broken = await ended(await send('id,level\n1031,1\n1032,95000\n1033,3\n1034,96000\n', { mapping: 'reading' }))
    expect(told(broken.report.sample)).toEqual([
      [3, '1032', 'constraint-broken'],
      [5, '1034', 'constraint-broken'],
    ])
    expect(await sql('select count(*)::int as n from reading where id between 1031 and 1035 and level = id')).toEqual([
      { n: 5 },
    ])
  })

  it('goes in chunks, leaves what fails, and gives those rows back to be put right', async () => {
    const file = [
      'id,mark,level',
      ...[41, 42, 9998, 43, 44, 45, 44].map((id) => `${id},c${id},${id === 43 ? 95000 : id}`),
    ].join('\n')
    const job = await ended(await send(file, { mapping: 'reading', chunk: '2' }))
    expect([job.state, counts(job), job.entries.length]).toEqual([
      'done',
      { matched: 4, changed: 3, notFound: 1, ambiguous: 2, refused: 1 },
      4,
    ])
    const failed = await service.request('GET', `/v1/jobs/${job.id}/failed-rows`)
    expect(failed.text.split('\r\n').map((line) => line.split(',').slice(0, 3).join())).toEqual([
      'id,mark,level',
      '9998,c9998,9998',
      '43,c43,95000',
      '44,c44,44',
      '44,c44,44',
      '',
    ])
    expect(await sql(`select id from reading where mark like 'c%' order by id`)).toEqual([
      { id: 41 },
      { id: 42 },
      { id: 45 },
    ])
  })

  it('adds what is not there where that is wanted, and commits what was rehearsed', async () => {
    const file = 'id,mark,level\n5100,new,1\n51,old,2\n'
    const rehearsed = await ended(await send(file, { mapping: 'reading', mode: 'rehearse', onMissing: 'add' }))
    expect(counts(rehearsed)).toEqual({ matched: 1, changed: 2, added: 1 })
    const other = await send(`${file}52,more,3\n`, {
      mapping: 'reading',
      onMissing: 'add',
      rehearsal: rehearsed.rehearsal ?? '',
    })
    expect([other.status, other.body.code]).toEqual([412, 'rehearsal-stale'])
    const committed = await ended(
      await send(file, { mapping: 'reading', onMissing: 'add', rehearsal: rehearsed.rehearsal ?? '' }),
    )
    expect(counts(committed)).toEqual({ matched: 1, changed: 2, added: 1 })
    const { receipt } = await service.client.target('observatory').entry(committed.entries[0] ?? '')
    expect(receipt.steps.map(({ kind, changed }) => [kind, changed])).toEqual([
      ['change', 1],
      ['add', 1],
    ])
    expect(await sql('select mark, row_version from reading where id = 5100')).toEqual([
      { mark: 'new', row_version: 1 },
    ])
  })

  it('comes back from an export, where what cannot be set has to be as it is', async () => {
    const { text } = await service.request(
      'GET',
      '/v1/targets/observatory/mappings/reading/records?where=id%20between%201061%20and%201062',
      {
        headers: { accept: 'text/csv' },
      },
    )
    const edited = text.replace(',1061.00,', ',6.25,').replace(/(\n1062,.*),1\r/, '$1,9\r')
    const job = await ended(await send(edited, { mapping: 'reading' }))
    expect(told(job.report.sample)).toEqual([[3, '1062', 'record-changed']])
    expect(counts(await ended(await send(text.replace(',1061.00,', ',6.25,'), { mapping: 'reading' })))).toEqual({
      matched: 2,
      changed: 1,
      same: 1,
    })
  })

  it.each<[string, string | Uint8Array, object]>([
    ['another delimiter', 'id;level\n1;2\n', { line: 1, column: 1 }],
    ['Latin-1', Buffer.from('id,mark\n1,a\n2,caf\xe9\n', 'latin1'), { line: 3 }],
    ['a quote never closed', 'id,mark\n1,"a\n2,b\n', { line: 2, column: 2 }],
    ['a quote inside', 'id,mark\n1,a"b\n', { line: 2, column: 2 }],
    ['a line without end', `id,mark\n1,${'x'.repeat(1_200_000)}\n`, { line: 2 }],
    ['a column twice', 'id,id\n1,1\n', { line: 1, column: 2 }],
    ['no key', 'mark\na\n', { line: 1 }],
    ['nothing to change', 'id\n1\n', { line: 1 }],
    ['an unknown column', 'id,leve\n1,2\n', { line: 1, column: 2, expected: 'level' }],
    ['nothing', '', { line: 1 }],
    ['a header only', 'id,level\n', { line: 2 }],
    ['a line cut off', 'id,mark,level\n1,a,2\n2,b\n', { line: 3, column: 3 }],
    ['a value of another type', 'id,level\r\n1,2\r\n2,high\r\n', { line: 3, column: 2 }],
    ['more decimals than the column keeps', 'id,level\n1,2.345\n', { line: 2, column: 2 }],
    ['null where none may be', 'id,level\n1,\n', { line: 2, column: 2 }],
  ])('with %s is refused with its place, before anything runs', async (_, file, place) => {
    const { status, body } = await send(file, { mapping: 'reading' })
    expect({ status, ...body }).toMatchObject({ status: 400, code: 'file-invalid', ...place })
    expect(
      await service.home.sql(
        'select count(*)::int as n from ledgerman_home.job_part p where not exists (select from ledgerman_home.job j where j.id = p.job)',
      ),
    ).toEqual([{ n: 0 }])
  })

  it('that is too large, of another kind or with words that do not apply is refused', async () => {
    const large = await send(`id,mark\n${'1,xxxxxxxxxxxxxxx\n'.repeat(600_000)}`, { mapping: 'reading' })
    expect([large.status, large.body.code]).toEqual([413, 'too-large'])
    expect((await send('id,level\n1,2\n', { mapping: 'reading' }, 'text/plain')).body.code).toBe('media-type')
    expect((await send('id,level\n1,2\n', {})).body.code).toBe('request-invalid')
    expect(
      (await send('{"id":1,"level":2}', { mapping: 'reading', delimiter: ';' }, 'application/x-ndjson')).body.code,
    ).toBe('request-invalid')
    expect((await send('readAt,cloud\n1,2\n', { mapping: 'skyFeed' })).body.code).toBe('no-key')
  })
})

describe('jobs', () => {
  it('that are asked for again with the same key are begun once', async () => {
    const body = { mode: 'commit', mapping: 'reading', where: 'id = 81', compute: { level: 'level + 1' }, expect: 1 }
    const ask = (more: object = {}) =>
      service.request('POST', JOBS, {
        body: { ...body, ...more },
        headers: { 'content-type': 'application/json', 'idempotency-key': 'night-7' },
      })
    const first = await ask()
    const again = await ask()
    expect([again.status, again.body.id]).toEqual([202, first.body.id])
    expect(counts(await ended(again))).toEqual({ matched: 1, changed: 1 })
    expect((await ask({ expect: 'any' })).body.code).toBe('idempotency-key-reused')
    expect(await sql('select level::text from reading where id = 81')).toEqual([{ level: '82.50' }])
  })

  it('are listed, cancelled while they run, resumed, and for those only who may see their target', async () => {
    const other = await service.observatory.session()
    try {
      await other.query('begin; lock table reading in exclusive mode')
      const begun = await begin({
        mode: 'commit',
        mapping: 'reading',
        where: 'id = 71',
        values: { mark: 'r' },
        expect: 1,
      })
      await new Promise((resolve) => setTimeout(resolve, 200))
      const cancelled = await service.request('DELETE', `/v1/jobs/${begun.body.id}`)
      expect(cancelled.status).toBe(202)
      const job = await ended(begun)
      expect([job.state, job.entries]).toEqual(['cancelled', []])
      await other.query('rollback')
      const resumed = await ended(await service.request('POST', `/v1/jobs/${job.id}/resume`))
      expect([resumed.state, counts(resumed)]).toEqual(['done', { matched: 1, changed: 1 }])
      const over = await service.request('DELETE', `/v1/jobs/${job.id}`)
      expect([over.status, over.body.code]).toEqual([409, 'job-ended'])
    } finally {
      await other.end()
    }
    const { body } = await service.request('GET', '/v1/jobs?state=cancelled')
    expect((body.jobs as Job[]).every(({ state }) => state === 'cancelled')).toBe(true)
    const { body: elsewhere } = await service.request('POST', '/v1/tokens', {
      body: { name: 'elsewhere', role: 'reader', targets: ['observatory'] },
      headers: { 'content-type': 'application/json' },
    })
    await service.home.sql(`update ledgerman_home.token set targets = '{other}' where name = 'elsewhere'`)
    const listed = await service.request('GET', '/v1/jobs', { token: elsewhere.token as string })
    expect((listed.body.jobs as Job[]).map(({ target }) => target)).toEqual([])
    expect(
      await sql(
        `select count(*)::int as n from pg_stat_activity where application_name like '%job%' and datname = current_database()`,
      ),
    ).toEqual([{ n: 0 }])
  })
})
