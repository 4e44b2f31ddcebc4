import { execFile } from 'node:child_process'
import { startTestService, type RunningService } from '../../../../testing/running-service.js'

let service: RunningService
const AT = '/v1/targets/observatory/mappings'
const find = (mapping: string, query: Record<string, string>, headers: Record<string, string> = {}) =>
  service.request('GET', `${AT}/${mapping}/records?${new URLSearchParams(query).toString()}`, { headers })

beforeAll(async () => {
  service = await startTestService()
})
afterAll(() => service.stop())

describe('finding over HTTP', () => {
  it('follows links, orders, chooses properties, and leads from page to page', async () => {
    const query = {
      where: 'lead.familyName = :name and hoursLeft > 10',
      'bind.name': 'Brandt',
      order: 'hoursLeft desc,code',
      properties: 'code,hoursLeft,lead.familyName',
      limit: '2',
      count: 'all',
    }
    const first = await find('programme', query)
    expect(first.body).toMatchObject({
      found: [{ code: 'P-148', hoursLeft: '140.80', lead: { familyName: 'Brandt' } }, {}],
      count: 6,
    })
    const [, next = ''] = /<([^>]+)>; rel="next"/.exec(first.headers.get('link') ?? '') ?? []
    const second = await service.request('GET', next)
    expect(second.body.found).toHaveLength(2)
    expect(second.body.found[0].code).not.toBe(first.body.found[1].code)
    const { limit: _, ...unlimited } = { ...query, where: `code = 'P-148'`, 'bind.name': undefined }
    const body = { ...unlimited, order: ['code'], properties: ['code', 'lead.badgeNo'] }
    const posted = await service.request('POST', `${AT}/programme/records/find`, {
      headers: { 'content-type': 'application/json' },
      body: JSON.parse(JSON.stringify({ ...body, 'bind.name': undefined })),
    })
    expect(posted.body).toMatchObject({
      found: [{ code: 'P-148', lead: { badgeNo: expect.any(String) } }],
      next: null,
      count: 1,
    })
  })

  it('goes on from page to page by an address that tells no value, and takes no altered one', async () => {
    const query = { order: 'contactEmail,code', properties: 'code,contactEmail', limit: '7' }
    const seen: string[] = []
    let next: string | null = null
    do {
      const { body }: { body: { found: { code: string; contactEmail: string }[]; next: string | null } } = await find(
        'programme',
        { ...query, ...(next === null ? {} : { after: next }) },
      )
      seen.push(...body.found.map(({ code }) => code))
      next = body.next
      const last = body.found.at(-1)?.contactEmail ?? ''
      for (const encoding of ['base64url', 'latin1'] as const)
        expect(Buffer.from(next ?? '', encoding).toString('latin1')).not.toContain(last.split('@')[1] ?? '@')
      if (next === null) break
      const at = 30 + (seen.length % 20)
      const altered = next.slice(0, at) + (next[at] === 'A' ? 'B' : 'A') + next.slice(at + 1)
      expect((await find('programme', { ...query, after: altered })).body).toMatchObject({
        code: 'request-invalid',
        where: 'after',
      })
    } while (next !== null)
    const all = await service.observatory.sql('select code from programme order by contact_email, code')
    expect(seen).toEqual(all.map(({ code }) => code))
  })

  it('tells what is wrong with each part of a question', async () => {
    const wrong: [Record<string, string>, string, RegExp][] = [
      [{ where: 'hoursLef = 1' }, 'expression-invalid', /Did you mean hoursLeft/],
      [{ where: 'code = :c' }, 'request-invalid', /:c, which has no value/],
      [{ order: 'hoursLef' }, 'request-invalid', /Did you mean hoursLeft/],
      [{ properties: 'code,lead.nam' }, 'request-invalid', /nam is no property of observer/],
      [{ limit: '0' }, 'request-invalid', /limit/],
      [{ wheer: '1' }, 'request-invalid', /wheer/],
      [{ where: 'code = :c', 'bind.c': '1', 'params.c': '2' }, 'request-invalid', /c has two values/],
      [{ find: 'shortOfHours' }, 'request-invalid', /needs a value for least/],
      [{ find: 'shortOfHours', 'params.leas': '1' }, 'request-invalid', /Did you mean least/],
      [{ find: 'shortOfHours', 'params.least': 'x' }, 'value-invalid', /expected a number/],
      [{ find: 'shortOfHours', where: 'true', 'params.least': '1' }, 'request-invalid', /find and where at once/],
      [{ expect: 'one', count: 'all' }, 'request-invalid', /count: it says nothing beside expect=one/],
      [{ explain: 'true', expect: 'one' }, 'request-invalid', /expect: it says nothing beside explain/],
      [{ after: 'xx' }, 'request-invalid', /"next" of an earlier page/],
      [{ where: '('.repeat(200) }, 'expression-invalid', /nested more than 100/],
    ]
    for (const [query, code, words] of wrong) {
      const { status, body } = await find('programme', query)
      expect([status, body.code, body.detail]).toEqual([400, code, expect.stringMatching(words)])
    }
    expect((await find('block', { where: `state = 'plannd'` })).body.detail).toMatch(
      /Expected one of 'planned', 'observing', 'done', 'failed', got 'plannd', at character 9/,
    )
    expect((await find('programme', {}, { accept: 'image/png' })).status).toBe(415)
  })

  it('gives the one record that was meant, or says why there is none', async () => {
    const one = await find('observer', { where: `email = 'tomas.okafor@harrowfell.example'`, expect: 'one' })
    expect(one.body).toMatchObject({ record: { badgeNo: 'B-002' }, guard: 'v1' })
    expect(one.headers.get('etag')).toBe('"v1"')
    expect((await find('observer', { where: 'id < 0', expect: 'one' })).body).toMatchObject({
      status: 404,
      code: 'no-such-record',
    })
    const several = await find('observer', { where: 'active', expect: 'one' })
    expect(several.body).toMatchObject({ status: 409, code: 'record-ambiguous', expected: 'one' })
    expect(several.body.candidates.length).toBeLessThanOrEqual(5)
    const by = await service.request('GET', `${AT}/observer/records/tomas.okafor%40harrowfell.example?by=email`)
    expect(by.body.record.badgeNo).toBe('B-002')
    expect((await service.request('GET', `${AT}/observer/records/x?by=familyName`)).body.detail).toMatch(
      /not unique.*unique are: .*email/,
    )
  })

  it('shows beforehand how it would be found', async () => {
    const { body } = await find('exposure', { where: 'blockId = 7', explain: 'true' })
    expect(body).toMatchObject({
      index: 'serves',
      statement: expect.stringMatching(/^select/),
      plan: expect.stringMatching(/Index/),
    })
    const one = await service.request('GET', `${AT}/programme/records/P-107?explain=true`)
    expect(one.body).toMatchObject({ binds: [{ name: 'code', value: 'P-107' }] })
  })

  it('streams all of a table as NDJSON and CSV', async () => {
    const lines = await find('exposure', { properties: 'id,block.programme.code' }, { accept: 'application/x-ndjson' })
    const records = lines.text.trimEnd().split('\n')
    expect(records).toHaveLength(200_000)
    expect(JSON.parse(records[0] ?? '')).toEqual({
      id: '1',
      block: { programme: { code: expect.stringMatching(/^P-/) } },
    })
    const csv = await find('programme', { properties: 'code,tags,lead.familyName', limit: '2' }, { accept: 'text/csv' })
    expect(csv.text.split('\r\n').slice(0, 2)).toEqual([
      'code,tags,lead.familyName',
      expect.stringMatching(/^P-101,"\[""spectroscopy""\]",/),
    ])
  })

  it('breaks a transfer off that fails midway, so that it does not look complete', async () => {
    const reading = new Promise<{ code: number | null; bytes: number }>((resolve) => {
      const url = `${service.url}${AT}/exposure/records`
      const curl = execFile(
        'curl',
        [
          '-sN',
          '--limit-rate',
          '2M',
          '-H',
          `authorization: Bearer ${service.token}`,
          '-H',
          'accept: application/x-ndjson',
          url,
        ],
        { maxBuffer: 1e9 },
      )
      let bytes = 0
      curl.stdout?.on('data', (chunk: string) => (bytes += chunk.length))
      curl.on('exit', (code) => resolve({ code, bytes }))
    })
    // Some of it has come by then.
    let ended: unknown[] = []
    for (let tries = 0; ended.length === 0 && tries < 10; tries++) {
      await new Promise((resolve) => setTimeout(resolve, 1_500))
      ended = await service.observatory.sql(
        `select pg_terminate_backend(pid) from pg_stat_activity where datname = current_database() and query like 'fetch%'`,
      )
    }
    expect(ended).toHaveLength(1)
    const { code, bytes } = await reading
    expect(bytes).toBeGreaterThan(0)
    // 18: the transfer ended before its end.
    expect(code).toBe(18)
    expect((await find('programme', { limit: '1' })).status).toBe(200)
  })

  it('ends the query in the database when the caller goes away', async () => {
    const gone = new AbortController()
    const where = `count(blocks where exists(exposures where seconds * seconds * seconds > 1e12)) > 1`
    const url = `${service.url}${AT}/programme/records?${new URLSearchParams({ where }).toString()}`
    const asked = fetch(url, { headers: { authorization: `Bearer ${service.token}` }, signal: gone.signal }).catch(
      () => 'gone',
    )
    setTimeout(() => gone.abort(), 30)
    await asked
    await new Promise((resolve) => setTimeout(resolve, 400))
    const running = await service.observatory.sql(
      `select query from pg_stat_activity where datname = current_database() and state = 'active' and pid <> pg_backend_pid()`,
    )
    expect(running).toEqual([])
  })
})

describe('a find that a mapping names', () => {
  it('is found by its name, with its own order, counted, explained and exported', async () => {
    const params = { find: 'shortOfHours', 'params.least': '9', 'params.semester': '2026A' }
    const { body } = await find('programme', { ...params, limit: '3', count: 'all', properties: 'code,hoursLeft' })
    const [{ codes, count }] = (await service.observatory.sql(`select count(*)::int as count,
      (array_agg(code order by hours_left, code))[1:3] as codes from programme p where hours_left < 9 and semester = '2026A'
      and exists (select from block b where b.programme_id = p.id and b.state = 'planned')`)) as [
      { codes: string[]; count: number },
    ]
    expect([body.found.map(({ code }: { code: string }) => code), body.count]).toEqual([codes, count])
    const rest = await find('programme', { ...params, limit: '100', after: body.next })
    expect(rest.body.found.length).toBe(count - 3)
    expect((await find('programme', { ...params, explain: 'true' })).body.binds[0]).toMatchObject({ value: '9' })
    const posted = await service.client.target('observatory').find('programme', {
      find: 'shortOfHours',
      params: { least: '9' },
      order: 'code desc',
      limit: 1,
    })
    expect(posted.found[0]?.['code']).toBe('P-160')
  })

  it('has to fit when it is published', async () => {
    const finds = `finds:
  a: { params: { x: { type: intt }, y: { type: text } }, where: 'priority > :x and code = :y' }
  b: { where: 'prioriti > 1' }
  c: { where: 'true', order: titel }
  d: { params: { x: { type: text } }, where: 'true' }
  e: { params: { x: { type: date } }, where: 'priority = :x' }
`
    const source = (more: string) =>
      `mapping: plan\ntable: public.programme\nkey: [code]\nguard: { by: none }\nproperties:\n  code: { column: code }\n  priority: { column: priority }\n${more}`
    const publish = (text: string) =>
      service.request('POST', '/v1/targets/observatory/definitions?check=true', {
        headers: { 'content-type': 'application/json' },
        body: { definitions: [{ file: 'plan.yaml', source: text }] },
      })
    const { body } = await publish(source(finds))
    expect(body.findings.map(({ where, line }: { where: string; line: number }) => [where, line])).toEqual([
      ['finds.a.params.x.type', 9],
      ['finds.b.where', 10],
      ['finds.c.order', 11],
      ['finds.d.params.x', 12],
    ])
    const typed = await publish(source(`finds:\n  e: { params: { x: { type: date } }, where: 'priority = :x' }\n`))
    expect(typed.body.findings).toEqual([expect.objectContaining({ where: 'finds.e.where', line: 9 })])
    const json = await publish(
      source('').replace(
        'column: priority }',
        `column: priority, type: number }\n  s: { column: settings, type: 'Date' }`,
      ),
    )
    expect(json.body.findings.map(({ message }: { message: string }) => message)).toEqual([
      expect.stringMatching(/only a json property/),
      expect.stringMatching(/got Date at character 1/),
    ])
  })
})

describe('definitions in one go', () => {
  const publish = (definitions: { file?: string; source: string }[], query = '') =>
    service.request('POST', `/v1/targets/observatory/definitions${query}`, {
      headers: { 'content-type': 'application/json' },
      body: { definitions },
    })
  const telescope = (extra: string) =>
    `mapping: scope\ntable: public.telescope\nkey: [code]\nguard: { by: none }\nproperties:\n  code: { column: code }\n${extra}`

  it('are published all or not at all, refused with file, line and reason', async () => {
    const refused = await publish([
      { file: 'scope.yaml', source: telescope('  name: { column: name }\n') },
      {
        file: 'dome.yaml',
        source:
          'mapping: dome\ntable: public.telescope\nkey: [code]\nguard: { by: none }\nproperties:\n  code: { column: coed }\nlinks:\n  x: { mapping: scoope, on: { code: code } }\nrules:\n  - that: codee > 1\n    otherwise: no\n',
      },
    ])
    expect(refused.body).toMatchObject({ status: 400, code: 'definition-invalid' })
    expect(refused.body.findings).toEqual(
      expect.arrayContaining([
        expect.objectContaining({
          file: 'dome.yaml',
          line: 6,
          where: 'properties.code.column',
          message: expect.stringMatching(/Did you mean code/),
        }),
        expect.objectContaining({ line: 8, message: expect.stringMatching(/Did you mean scope/) }),
        expect.objectContaining({ line: 10, column: 11, message: expect.stringMatching(/Unknown name codee/) }),
      ]),
    )
    expect((await service.request('GET', `${AT}/scope`)).status).toBe(404)
    const source = telescope('  name: { column: name }\n')
    expect((await publish([{ source }], '?check=true')).body.definitions).toEqual([
      expect.objectContaining({ state: 'new', revision: 0 }),
    ])
    expect((await publish([{ source }])).body.definitions).toEqual([
      expect.objectContaining({ name: 'scope', state: 'new', revision: 1 }),
    ])
    expect((await publish([{ source }])).body.definitions).toEqual([
      expect.objectContaining({ state: 'same', revision: 1 }),
    ])
    expect((await publish([{ source: 'a: [' }])).body.findings[0]).toMatchObject({
      line: 1,
      message: expect.stringMatching(/YAML cannot be read/),
    })
  })

  it('are found out of step with a table that was altered, with what to do', async () => {
    expect((await publish([], '?check=true')).body.findings).toEqual([])
    await service.observatory.sql('alter table telescope rename column name to title')
    const { body } = await publish([], '?check=true')
    expect(body.findings).toEqual(
      expect.arrayContaining([
        expect.objectContaining({
          definition: 'mapping telescope',
          where: 'properties.name.column',
          advice: expect.stringMatching(/publish/),
        }),
      ]),
    )
    await service.observatory.sql('alter table telescope rename column title to name')
  })

  it('have schemas that editors can use without a token', async () => {
    for (const kind of ['mapping', 'transaction']) {
      const { status, body } = await service.request('GET', `/v1/schemas/${kind}`, { token: '' })
      expect([status, body.type, Object.keys(body.properties)]).toEqual([200, 'object', expect.arrayContaining([kind])])
    }
  })
})
