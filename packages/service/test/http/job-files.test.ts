import { counts, told, startReadingJobs } from '../reading-jobs.js'

// Changes of many records from a file as a caller sends it: as one, in chunks, and what is given back to be put right.
let readings: Awaited<ReturnType<typeof startReadingJobs>>
beforeAll(async () => {
  readings = await startReadingJobs()
})
afterAll(() => readings.service.stop())

describe('a file of corrections', () => {
  it('is applied as one, nulls and empty texts apart, and what was like that already is left', async () => {
    const file = 'id,mark,level\r\n11,,11.25\r\n12,"",12.5\r\n13,"say ""hi"",\nline two",13.00\r\n14,m14,14.00\r\n'
    const job = await readings.ended(await readings.send(file, { mapping: 'reading' }))
    expect(counts(job)).toEqual({ matched: 4, changed: 3, same: 1 })
    expect(
      await readings.sql('select id, mark, level::text from reading where id between 11 and 14 order by id'),
    ).toEqual([
      { id: 11, mark: null, level: '11.25' },
      { id: 12, mark: '', level: '12.50' },
      { id: 13, mark: 'say "hi",\nline two', level: '13.00' },
      { id: 14, mark: 'm14', level: '14.00' },
    ])
    const lines = '{"id":21,"mark":null,"level":"21.75"}\n{"id":22,"mark":"n","level":22.1}\n'
    expect(
      counts(await readings.ended(await readings.send(lines, { mapping: 'reading' }, 'application/x-ndjson'))),
    ).toEqual({
      matched: 2,
      changed: 2,
    })
    expect(await readings.sql('select level::text from reading where id = 22')).toEqual([{ level: '22.10' }])
  })

  it('is told with every digit that a json value has', async () => {
    const line = '{"code":"P-107","settings":{"readout":"slow","gain":12345678901234567890.50}}\n'
    const job = await readings.ended(await readings.send(line, { mapping: 'programme' }, 'application/x-ndjson'))
    const { text } = await readings.service.request('GET', `/v1/jobs/${job.id}`)
    expect(text).toMatch(/"after":\{[^}]*"gain":\s*12345678901234567890\.50/)
  })

  it('is all or nothing: each row that cannot be applied is told with its line and key', async () => {
    const file = 'id,level,g\n1031,1,v1\n9999,1,v1\n1032,1,v7\n1033,-1,v1\n1034,95000,v1\n1035,2,v1\n'
    const job = await readings.ended(await readings.send(file, { mapping: 'reading', guard: 'g' }))
    expect([job.state, counts(job)]).toEqual(['failed', { matched: 5, notFound: 1, refused: 2 }])
    expect(told(job.report.sample)).toEqual([
      [3, '9999', 'no-such-record'],
      [4, '1032', 'record-changed'],
      [5, '1033', 'rule-broken'],
    ])
    const twice = await readings.ended(
      await readings.send('id,level\n1031,1\n1032,2\n1031,3\n1032,4\n', { mapping: 'reading' }),
    )
    expect(told(twice.report.sample)).toEqual([
      [2, '1031', 'record-ambiguous'],
      [3, '1032', 'record-ambiguous'],
      [4, '1031', 'record-ambiguous'],
      [5, '1032', 'record-ambiguous'],
    ])
    expect(twice.problem?.detail).toMatch(
      /^Lines 2 and 4 have the same key, 1031\..* 2 more rows cannot be applied either/,
    )
    const broken = await readings.ended(
      await readings.send('id,level\n1031,1\n1032,95000\n1033,3\n1034,96000\n', { mapping: 'reading' }),
    )
    expect(told(broken.report.sample)).toEqual([
      [3, '1032', 'constraint-broken'],
      [5, '1034', 'constraint-broken'],
    ])
    expect(
      await readings.sql('select count(*)::int as n from reading where id between 1031 and 1035 and level = id'),
    ).toEqual([{ n: 5 }])
  })

  it('goes in chunks, leaves what fails, and gives those rows back to be put right', async () => {
    const file = [
      'id,mark,level',
      ...[41, 42, 9998, 43, 44, 45, 44].map((id) => `${id},c${id},${id === 43 ? 95000 : id}`),
    ].join('\n')
    const job = await readings.ended(await readings.send(file, { mapping: 'reading', chunk: '2' }))
    expect([job.state, counts(job), job.entries.length]).toEqual([
      'done',
      { matched: 4, changed: 3, notFound: 1, ambiguous: 2, refused: 1 },
      4,
    ])
    const { entries } = await readings.service.client.target('observatory').entries({ mapping: 'reading', limit: 1 })
    expect(entries).toMatchObject([{ kind: 'change', condition: 'from a file' }])
    const failed = await readings.service.request('GET', `/v1/jobs/${job.id}/failed-rows`)
    expect(failed.text.split('\r\n').map((line) => line.split(',').slice(0, 3).join())).toEqual([
      'id,mark,level',
      '9998,c9998,9998',
      '43,c43,95000',
      '44,c44,44',
      '44,c44,44',
      '',
    ])
    expect(await readings.sql(`select id from reading where mark like 'c%' order by id`)).toEqual([
      { id: 41 },
      { id: 42 },
      { id: 45 },
    ])
  })

  it('adds what is not there where that is wanted, and commits what was rehearsed', async () => {
    const file = 'id,mark,level\n5100,new,1\n51,old,2\n'
    const rehearsed = await readings.ended(
      await readings.send(file, { mapping: 'reading', mode: 'rehearse', onMissing: 'add' }),
    )
    expect(counts(rehearsed)).toEqual({ matched: 1, changed: 2, added: 1 })
    const other = await readings.send(`${file}52,more,3\n`, {
      mapping: 'reading',
      onMissing: 'add',
      rehearsal: rehearsed.rehearsal ?? '',
    })
    expect([other.status, other.body.code]).toEqual([412, 'rehearsal-stale'])
    const committed = await readings.ended(
      await readings.send(file, { mapping: 'reading', onMissing: 'add', rehearsal: rehearsed.rehearsal ?? '' }),
    )
    expect(counts(committed)).toEqual({ matched: 1, changed: 2, added: 1 })
    const { receipt } = await readings.service.client.target('observatory').entry(committed.entries[0] ?? '')
    expect(receipt.steps.map(({ kind, changed }) => [kind, changed])).toEqual([
      ['change', 1],
      ['add', 1],
    ])
    expect(await readings.sql('select mark, row_version from reading where id = 5100')).toEqual([
      { mark: 'new', row_version: 1 },
    ])
  })

  it('comes back from an export, where what cannot be set has to be as it is', async () => {
    const { text } = await readings.service.request(
      'GET',
      '/v1/targets/observatory/mappings/reading/records?where=id%20between%201061%20and%201062',
      {
        headers: { accept: 'text/csv' },
      },
    )
    const edited = text.replace(',1061.00,', ',6.25,').replace(/(\n1062,.*),1\r/, '$1,9\r')
    const job = await readings.ended(await readings.send(edited, { mapping: 'reading' }))
    expect(told(job.report.sample)).toEqual([[3, '1062', 'record-changed']])
    // Of each row only what differs in it is told.
    const guarded = edited.split('\r\n').map((line, at) => (line === '' ? '' : `${line},${['g', 'v7', 'v1'][at]}`))
    const both = await readings.ended(await readings.send(guarded.join('\r\n'), { mapping: 'reading', guard: 'g' }))
    expect(both.report.sample.map(({ line, reason }) => [line, reason])).toEqual([
      [2, 'It was changed since its guard was read.'],
      [3, 'It is not as in the file: rowVersion differs.'],
    ])
    expect(
      counts(await readings.ended(await readings.send(text.replace(',1061.00,', ',6.25,'), { mapping: 'reading' }))),
    ).toEqual({
      matched: 2,
      changed: 1,
      same: 1,
    })
  })

  it.each<[string, string | Uint8Array, object]>([
    [
      'another delimiter',
      'id;level\n1;2\n',
      { line: 1, column: 1, detail: expect.stringMatching(/is ";" the delimiter/) },
    ],
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
    const { status, body } = await readings.send(file, { mapping: 'reading' })
    expect({ status, ...body }).toMatchObject({ status: 400, code: 'file-invalid', ...place })
    expect(
      await readings.service.home.sql(
        'select count(*)::int as n from ledgerman_home.job_part p where not exists (select from ledgerman_home.job j where j.id = p.job)',
      ),
    ).toEqual([{ n: 0 }])
  })

  it('that is too large, of another kind or with words that do not apply is refused', async () => {
    const large = await readings.send(`id,mark\n${'1,xxxxxxxxxxxxxxx\n'.repeat(600_000)}`, { mapping: 'reading' })
    expect([large.status, large.body.code]).toEqual([413, 'too-large'])
    expect((await readings.send('id,level\n1,2\n', { mapping: 'reading' }, 'text/plain')).body.code).toBe('media-type')
    expect((await readings.send('id,level\n1,2\n', {})).body.code).toBe('request-invalid')
    expect(
      (await readings.send('{"id":1,"level":2}', { mapping: 'reading', delimiter: ';' }, 'application/x-ndjson')).body
        .code,
    ).toBe('request-invalid')
    expect((await readings.send('readAt,cloud\n1,2\n', { mapping: 'skyFeed' })).body.code).toBe('no-key')
  })
})
