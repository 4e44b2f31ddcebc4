import { once } from 'node:events'
import { connect } from 'node:net'
import { setTimeout as delay } from 'node:timers/promises'
import { startTestService, type RunningService } from '../../../../testing/running-service.js'

let service: RunningService
const RECORDS = '/v1/targets/observatory/mappings/programme/records'
const PATCH = { 'content-type': 'application/merge-patch+json' }

beforeAll(async () => {
  service = await startTestService()
})
afterAll(() => service.stop())

const patch = (path: string, body: unknown, headers: Record<string, string> = {}) =>
  service.request('PATCH', `${RECORDS}/${path}`, { body, headers: { ...PATCH, ...headers } })

describe('records over HTTP', () => {
  it('go from load to change to book with an ETag, as a program would do it', async () => {
    const loaded = await service.request('GET', `${RECORDS}/P-107`)
    expect(loaded).toMatchObject({ status: 200, body: { record: { code: 'P-107', hoursLeft: '18.50' }, guard: 'v1' } })
    const etag = loaded.headers.get('etag') ?? ''
    const rehearsed = await patch('P-107?mode=rehearse', { hoursLeft: '14.50' }, { 'if-match': etag })
    expect(rehearsed.body.receipt).toMatchObject({ outcome: 'rehearsed', entry: null })
    const committed = await patch('P-107', { hoursLeft: '14.50' }, { 'if-match': etag })
    expect(committed.body).toMatchObject({ guard: 'v2', receipt: { outcome: 'committed', actor: 'admin' } })
    expect(committed.headers.get('etag')).toBe('"v2"')
    const entry = await service.request('GET', committed.body.receipt.entry)
    expect(entry.body.receipt.steps[0]).toMatchObject({
      matched: 1,
      changed: 1,
      rows: [{ before: { hoursLeft: '18.50' }, after: { hoursLeft: '14.50' } }],
    })
    const get = async (headers: Record<string, string>) =>
      (await service.request('GET', `${RECORDS}/P-107`, { headers })).status
    expect([
      await get({ 'if-match': '"v2"' }),
      await get({ 'if-match': '*' }),
      await get({ 'if-match': '"v1"' }),
    ]).toEqual([200, 200, 412])
    const both = await service.request('PATCH', `${RECORDS}/P-107`, {
      body: { priority: 4 },
      headers: { 'content-type': 'application/merge-patch+json', 'if-match': '*', 'if-none-match': '*' },
    })
    expect(both.body).toMatchObject({ status: 400, where: 'if-none-match' })
    expect((await service.request('GET', `${RECORDS}/P-107`, { headers: { 'if-none-match': '"v2"' } })).status).toBe(
      304,
    )
  })

  it('are listed page by page, each once', async () => {
    const codes: string[] = []
    let path: string | null = `${RECORDS}?limit=25`
    while (path !== null) {
      const page = await service.request('GET', path)
      codes.push(...page.body.found.map((record: { code: string }) => record.code))
      path = /<(.*)>; rel="next"/.exec(page.headers.get('link') ?? '')?.[1] ?? null
    }
    expect(codes).toHaveLength(60)
    expect(new Set(codes).size).toBe(60)
    const feed = await service.request('GET', '/v1/targets/observatory/mappings/skyFeed/records?limit=400')
    const rest = await service.request(
      'GET',
      `/v1/targets/observatory/mappings/skyFeed/records?limit=400&after=${feed.body.next}`,
    )
    expect(feed.body.found.length + rest.body.found.length).toBe(500)
  })

  it.each([
    ['a missing record', 'P-999', { title: 'x' }, { 'if-match': '"v1"' }, 404, 'no-such-record'],
    ['a missing If-Match', 'P-108', { title: 'x' }, {}, 428, 'guard-required'],
    ['a stale If-Match', 'P-108', { title: 'x' }, { 'if-match': '"v7"' }, 412, 'record-changed'],
    ['a weak If-Match', 'P-108', { title: 'x' }, { 'if-match': 'W/"v1"' }, 412, 'record-changed'],
    ['an If-Match without quotes', 'P-108', { title: 'x' }, { 'if-match': 'v1' }, 400, 'request-invalid'],
    ['an unknown property', 'P-108', { titel: 'x' }, { 'if-match': '"v1"' }, 400, 'request-invalid'],
    ['a number of the wrong kind', 'P-108', { priority: 2.5 }, { 'if-match': '"v1"' }, 400, 'value-invalid'],
    ['a broken check', 'P-108', { hoursLeft: '399.00' }, { 'if-match': '"v1"' }, 409, 'constraint-broken'],
    ['no object', 'P-108', [], { 'if-match': '"v1"' }, 400, 'request-invalid'],
    ['no JSON', 'P-108', '{"title":', { 'if-match': '"v1"' }, 400, 'request-invalid'],
    ['a member given twice', 'P-108', '{"title":"a","title":"b"}', { 'if-match': '"v1"' }, 400, 'request-invalid'],
    ['another media type', 'P-108', 'title=x', { 'if-match': '"v1"', 'content-type': 'text/plain' }, 415, 'media-type'],
    ['too much', 'P-108', { title: 'x'.repeat(1_100_000) }, { 'if-match': '"v1"' }, 413, 'too-large'],
    ['an unknown mode', 'P-108?mode=maybe', { title: 'x' }, { 'if-match': '"v1"' }, 400, 'request-invalid'],
    ['a broken percent-encoding', 'P-%zz', { title: 'x' }, { 'if-match': '"v1"' }, 400, 'request-invalid'],
    ['too many key values', 'P-108,2', { title: 'x' }, { 'if-match': '"v1"' }, 400, 'request-invalid'],
  ])('answer %s with a problem document', async (_what, path, body, headers, status, code) => {
    const answer = await patch(path, body, headers)
    expect(answer.headers.get('content-type')).toMatch(/^application\/problem\+json/)
    expect(answer).toMatchObject({ status, body: { status, code, type: `/problems/${code}` } })
    expect(answer.body.detail.length).toBeGreaterThan(20)
  })

  it('show both sides of a conflict', async () => {
    const stale = await patch('P-109', { title: 'Mine', hoursLeft: '1.00' }, { 'if-match': '"v3"' })
    expect(stale.body).toMatchObject({
      yours: { title: 'Mine', hoursLeft: '1.00' },
      current: { hoursLeft: '74.70' },
      loaded: { title: null },
      guard: 'v1',
    })
    expect(stale.body.receipt).toMatchObject({ outcome: 'refused', steps: [{ matched: 1, changed: 0 }] })
    // Of what is no guard at all nobody knows what was loaded.
    const none = await patch('P-109', { title: 'Mine' }, { 'if-match': '"1"' })
    expect([none.status, none.body.detail]).toEqual([
      412,
      '1 is no guard of programme: those begin with v, and come with the record when it is loaded. Nothing was changed.',
    ])
  })

  it('find a key by query where a path cannot carry it', async () => {
    expect((await service.request('GET', `${RECORDS}/-?key.code=P-107`)).body.record.code).toBe('P-107')
    expect((await service.request('GET', `${RECORDS}/-/waits?key.code=P-107`)).body).toEqual({ sessions: [] })
    expect((await service.request('GET', `${RECORDS}/-/history?key.code=P-107`)).status).toBe(200)
    expect((await service.request('GET', `${RECORDS}/-`)).body.code).toBe('request-invalid')
    for (const code of ['..', '-', 'a/b?c']) {
      const body = { code, name: 'Odd', apertureM: '1.00' }
      const { headers } = await service.request('POST', '/v1/targets/observatory/mappings/telescope/records', {
        body,
        headers: { 'content-type': 'application/json' },
      })
      expect((await service.request('GET', headers.get('location') ?? '')).body.record).toMatchObject(body)
      await service.client.target('observatory').remove('telescope', [code], { mode: 'commit', guard: '*' })
    }
    const flat = await service.request(
      'GET',
      '/v1/targets/observatory/mappings/calibration/records/HF1,2026-02-03,flat',
    )
    expect(flat.body.record).toMatchObject({ telescope: 'HF1', night: '2026-02-03', kind: 'flat' })
  })

  it('let one of twenty savers over HTTP through', async () => {
    const answers = await Promise.all(
      Array.from({ length: 20 }, (_, at) => patch('P-131', { title: `Saver ${at}` }, { 'if-match': '"v1"' })),
    )
    expect(answers.filter(({ status }) => status === 200)).toHaveLength(1)
    expect(answers.filter(({ status }) => status === 412)).toHaveLength(19)
    const book = await service.request(
      'GET',
      '/v1/targets/observatory/entries?mapping=programme&key=P-131&outcome=committed',
    )
    expect(book.body.entries).toHaveLength(1)
  })

  it('keep sensitive values and tokens out of log, book, receipts and problems', async () => {
    const secret = 'the-secret-address@harrowfell.example'
    const changed = await patch('P-132', { contactEmail: secret }, { 'if-match': '"v1"' })
    expect(changed.status).toBe(200)
    expect(JSON.stringify(changed.body.receipt)).not.toContain(secret)
    const stale = await patch('P-132', { contactEmail: secret }, { 'if-match': '"v1"' })
    expect(stale).toMatchObject({ status: 412 })
    expect(stale.text).not.toContain(secret)
    const invalid = await patch('P-132', { contactEmail: [secret] }, { 'if-match': '"v2"' })
    expect(invalid.status).toBe(400)
    expect(invalid.text).not.toContain(secret)
    const book = JSON.stringify(await service.observatory.sql('select * from ledgerman.entry'))
    expect(book).toContain('hmac:')
    expect(book).not.toContain(secret)
    const log = service.logLines.join('\n')
    expect(log).toContain('"route":"PATCH ')
    expect(log).not.toContain(secret)
    expect(log).not.toContain(service.token)
  })
})

describe('the service', () => {
  it('answers 503 within two seconds while a target is down, and works again by itself', async () => {
    const ask = () => service.request('GET', `${RECORDS}/P-107`)
    // Of this database alone: other suites work with the same role.
    const letIn = (most: number) =>
      service.observatory.sql(
        `do $$ begin execute format('alter database %I connection limit ${most}', current_database()); end $$`,
      )
    await letIn(0)
    await service.observatory.sql(
      `select pg_terminate_backend(pid) from pg_stat_activity where usename = 'ledgerman_worker' and datname = current_database()`,
    )
    const started = Date.now()
    expect(await ask()).toMatchObject({ status: 503, body: { code: 'target-unavailable' } })
    expect(Date.now() - started).toBeLessThan(4_000)
    expect((await service.request('GET', '/readyz')).status).toBe(200)
    const [target] = (await service.request('GET', '/v1/targets')).body.targets
    expect(target).toMatchObject({ reachable: false, book: 'unknown' })
    await letIn(-1)
    expect((await ask()).status).toBe(200)
  })

  it('gives each role its calls and no more, and only the targets of a token', async () => {
    const tokenOf = async (role: string, targets?: string[]) =>
      (
        await service.request('POST', '/v1/tokens', {
          body: { name: `${role} ${targets ?? ''}`, role, targets },
          headers: { 'content-type': 'application/json' },
        })
      ).body.token as string
    const reader = await tokenOf('reader')
    const writer = await tokenOf('writer')
    const as = (token: string, method: string, path: string, body?: unknown, headers = PATCH) =>
      service.request(method, path, {
        token,
        headers: { ...headers, 'if-match': '"v1"' },
        ...(body === undefined ? {} : { body }),
      })
    expect((await as(reader, 'GET', `${RECORDS}/P-150`)).status).toBe(200)
    expect((await as(reader, 'PATCH', `${RECORDS}/P-150`, { title: 'x' })).status).toBe(403)
    expect((await as(writer, 'PATCH', `${RECORDS}/P-150`, { title: 'x' })).body.receipt.actor).toBe('writer')
    expect(
      (
        await as(writer, 'PUT', '/v1/targets/observatory/mappings/programme', '{}', {
          'content-type': 'application/json',
        })
      ).status,
    ).toBe(403)
    expect((await as(writer, 'POST', '/v1/targets/observatory/book')).status).toBe(403)
    expect((await service.request('GET', `${RECORDS}/P-150`, { token: '' })).headers.get('www-authenticate')).toBe(
      'Bearer',
    )
    expect((await service.request('GET', `${RECORDS}/P-150`, { token: 'lgm_wrong' })).body.code).toBe('unauthenticated')
    expect(JSON.stringify(await service.home.sql('select * from ledgerman_home.token'))).not.toContain(reader)
    const list = (await service.request('GET', '/v1/tokens')).body.tokens as { id: string; name: string }[]
    const id = list.find(({ name }) => name === 'reader')?.id ?? ''
    expect((await service.request('DELETE', `/v1/tokens/${id}`)).status).toBe(204)
    expect((await as(reader, 'GET', `${RECORDS}/P-150`)).status).toBe(401)
  })

  it('signs a browser in with a cookie that scripts cannot read and other sites cannot use', async () => {
    const signedIn = await service.request('POST', '/v1/session', {
      token: '',
      body: { token: service.token },
      headers: { 'content-type': 'application/json' },
    })
    const cookie = signedIn.headers.get('set-cookie') ?? ''
    expect(cookie).toMatch(/HttpOnly; SameSite=Strict/)
    const session = cookie.split(';')[0] ?? ''
    const as = (headers: Record<string, string>) =>
      patch('P-151', { title: 'From a page' }, { 'if-match': '"v1"', cookie: session, ...headers })
    const request = (headers: Record<string, string>) =>
      service.request('PATCH', `${RECORDS}/P-151`, {
        token: '',
        body: { title: 'x' },
        headers: { ...PATCH, 'if-match': '"v1"', cookie: session, ...headers },
      })
    expect((await request({ origin: 'https://elsewhere.example' })).status).toBe(403)
    expect((await request({ origin: service.url })).status).toBe(200)
    expect((await as({})).status).toBe(412)
    await service.request('DELETE', '/v1/session', { token: '', headers: { cookie: session } })
    expect((await service.request('GET', '/v1/session', { token: '', headers: { cookie: session } })).status).toBe(401)
  })

  it('lets a running change finish before it stops, and waits for no connection on which nothing was asked', async () => {
    const other = await startTestService()
    const holder = await other.observatory.session()
    await holder.query(`begin; update programme set title = title where code = 'P-107'`)
    const running = other.request('PATCH', `${RECORDS}/P-107`, {
      body: { hoursLeft: '1.00' },
      headers: { ...PATCH, 'if-match': '"v1"' },
    })
    const waiting = async () =>
      (
        await other.observatory.sql(
          `select 1 from pg_stat_activity where wait_event_type = 'Lock' and datname = current_database()`,
        )
      ).length > 0
    while (!(await waiting())) await delay(10)
    const spare = connect(Number(new URL(other.url).port), '127.0.0.1')
    await once(spare, 'connect')
    const spareEnded = once(spare, 'close')
    const stopped = other.stop()
    // It has asked for nothing, so that nothing waits for it: at the limit of a stop, the change would be cut off as well.
    await spareEnded
    await holder.query('rollback')
    await holder.end()
    expect((await running).status).toBe(200)
    await stopped
    await expect(fetch(`${other.url}/healthz`)).rejects.toThrow()
  })
})
