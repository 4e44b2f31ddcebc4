import { startTestService, type RunningService } from '../../../../testing/running-service.js'

let service: RunningService
const RECORDS = '/v1/targets/observatory/mappings'
const patch = (key: string, body: object, headers: Record<string, string>, query = '') =>
  service.request('PATCH', `${RECORDS}/programme/records/${key}${query}`, {
    headers: { 'content-type': 'application/json', ...headers },
    body: { set: body },
  })
const entriesOf = (code: string) =>
  service.observatory.sql(
    `select id from ledgerman.entry where outcome = 'committed' and before is distinct from after and key = array['${code}']`,
  )

beforeAll(async () => {
  service = await startTestService()
})
afterAll(() => service.stop())

describe('a write of one record with an idempotency key', () => {
  it('takes effect once, and answers again what it answered first', async () => {
    const headers = { 'if-match': '"v1"', 'idempotency-key': '"change-101"' }
    const first = await patch('P-101', { priority: 5 }, headers)
    expect(first.body).toMatchObject({ guard: 'v2', receipt: { outcome: 'committed', replayed: false } })
    // Its guard is old by now: the key is looked up before.
    const again = await patch('P-101', { priority: 5 }, headers)
    expect(again.status).toBe(200)
    expect(again.body).toMatchObject({
      record: { priority: 5 },
      guard: 'v2',
      receipt: { id: first.body.receipt.id, replayed: true, steps: [{ matched: 1, changed: 1 }] },
    })
    // So it is for whoever loaded the record again, not knowing that this was done.
    const reloaded = await patch('P-101', { priority: 5 }, { ...headers, 'if-match': '"v2"' })
    expect(reloaded.body).toMatchObject({ guard: 'v2', receipt: { id: first.body.receipt.id, replayed: true } })
    expect(await entriesOf('P-101')).toHaveLength(1)
    expect((await patch('P-101', { priority: 4 }, headers)).body).toMatchObject({
      status: 409,
      code: 'idempotency-key-reused',
    })
    const other = (await service.client.addToken({ name: 'other', role: 'writer' })).token
    const theirs = await service.request('PATCH', `${RECORDS}/programme/records/P-101`, {
      headers: { 'content-type': 'application/json', ...headers, 'if-match': '"v2"' },
      body: { set: { priority: 3 } },
      token: other,
    })
    expect(theirs.body).toMatchObject({ guard: 'v3', receipt: { replayed: false } })
  })

  it('holds for records that are added, replaced and removed, and a refusal holds no key', async () => {
    const add = () =>
      service.request('POST', `${RECORDS}/telescope/records`, {
        headers: { 'content-type': 'application/json', 'idempotency-key': 'add-1' },
        body: { code: 'ONCE', name: 'Once', apertureM: '1.00' },
      })
    expect((await add()).status).toBe(201)
    expect(await add()).toMatchObject({ status: 200, body: { record: { code: 'ONCE' }, receipt: { replayed: true } } })
    const remove = (guard: string) =>
      service.request('DELETE', `${RECORDS}/telescope/records/ONCE`, {
        headers: { 'if-match': guard, 'idempotency-key': 'remove-1' },
      })
    expect((await remove('"v9"')).status).toBe(412)
    expect((await remove('"v1"')).body).toMatchObject({ receipt: { replayed: false } })
    expect((await remove('"v1"')).body).toMatchObject({ receipt: { replayed: true, outcome: 'committed' } })
    expect((await remove('"v1"')).status).toBe(200)
  })

  it('sent many times at once still takes effect once', async () => {
    const headers = { 'if-match': '"v1"', 'idempotency-key': 'many' }
    const answers = await Promise.all(Array.from({ length: 12 }, () => patch('P-102', { priority: 5 }, headers)))
    expect(
      answers.filter(({ body }) => body.receipt?.replayed === false && body.receipt.outcome === 'committed'),
    ).toHaveLength(1)
    expect(answers.every(({ status, body }) => status === 200 || body.code === 'idempotency-key-in-use')).toBe(true)
    expect(await entriesOf('P-102')).toHaveLength(1)
  })
})

describe('the rehearsal of one record', () => {
  it('can be committed as exactly that by its token, and refuses where the record has moved', async () => {
    const rehearse = async (key: string) =>
      (await patch(key, { hoursLeft: '2.00' }, { 'if-match': '*' }, '?mode=rehearse')).body.receipt.rehearsal as string
    const token = await rehearse('P-103')
    expect(token).toMatch(/^lgr_/)
    expect((await patch('P-103', { hoursLeft: '3.00' }, {}, `?rehearsal=${token}`)).body).toMatchObject({
      code: 'rehearsal-stale',
    })
    const done = await patch('P-103', { hoursLeft: '2.00' }, {}, `?rehearsal=${token}`)
    expect(done.body).toMatchObject({ record: { hoursLeft: '2.00' }, receipt: { outcome: 'committed' } })
    const stale = await rehearse('P-104')
    await patch('P-104', { semester: '2029B' }, { 'if-match': '*' })
    expect((await patch('P-104', { hoursLeft: '2.00' }, {}, `?rehearsal=${stale}`)).body).toMatchObject({
      status: 412,
      code: 'rehearsal-stale',
      differs: [{ step: 1 }],
    })
  })
})
