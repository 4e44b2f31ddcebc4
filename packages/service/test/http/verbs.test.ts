import { startTestService, type RunningService } from '../../../../testing/running-service.js'

let service: RunningService
const MAPPINGS = '/v1/targets/observatory/mappings'
const JSON_TYPE = { 'content-type': 'application/json' }

beforeAll(async () => {
  service = await startTestService()
})
afterAll(() => service.stop())

const send = (method: string, path: string, body?: unknown, headers: Record<string, string> = {}) =>
  service.request(method, `${MAPPINGS}/${path}`, {
    ...(body === undefined ? {} : { body }),
    headers: { ...(body === undefined ? {} : JSON_TYPE), ...headers },
  })

describe('the verbs over HTTP', () => {
  it('add, replace and remove a record, each with its receipt', async () => {
    const added = await send('POST', 'telescope/records', { code: 'HF/4,é', name: 'Four', apertureM: '1.10' })
    expect(added).toMatchObject({
      status: 201,
      body: { record: { status: 'operational', rowVersion: 1 }, guard: 'v1', receipt: { outcome: 'committed' } },
    })
    const location = added.headers.get('location') ?? ''
    expect(location).toBe(`${MAPPINGS}/telescope/records/HF%2F4%2C%C3%A9`)
    const loaded = await service.request('GET', location)
    expect(loaded.headers.get('etag')).toBe('"v1"')
    const at = location.slice(MAPPINGS.length + 1)
    const lost = await send('PUT', at, { name: 'Four', status: 'retired' }, { 'if-match': '"v1"' })
    expect(lost).toMatchObject({ status: 400, body: { lost: ['apertureM'] } })
    const replaced = await send('PUT', at, { ...loaded.body.record, status: 'retired' }, { 'if-match': '"v0", "v1"' })
    expect(replaced).toMatchObject({
      status: 200,
      body: {
        guard: 'v2',
        receipt: {
          steps: [
            {
              kind: 'replace',
              changed: 1,
              rows: [{ before: { status: 'operational' }, after: { status: 'retired' } }],
            },
          ],
        },
      },
    })
    expect((await send('DELETE', at)).status).toBe(428)
    expect((await send('DELETE', at, undefined, { 'if-match': '"v1"' })).status).toBe(412)
    expect((await send('DELETE', `${at}?mode=rehearse`, undefined, { 'if-match': '"v2"' })).body.receipt.outcome).toBe(
      'rehearsed',
    )
    const removed = await send('DELETE', at, undefined, { 'if-match': '"v2"' })
    expect(removed).toMatchObject({
      status: 200,
      body: { receipt: { steps: [{ kind: 'remove', rows: [{ before: { name: 'Four' }, after: null }] }] } },
    })
    expect(Object.keys(removed.body)).toEqual(['receipt'])
    expect((await service.request('GET', location)).status).toBe(404)
    expect(
      (await send('POST', 'telescope/records?mode=rehearse', { code: 'HF5', name: 'Five', apertureM: '1' })).status,
    ).toBe(200)
    expect(
      (await send('POST', 'telescope/records', { code: 'HF1', name: 'Again', apertureM: '1' })).body,
    ).toMatchObject({ code: 'constraint-broken', kind: 'duplicate' })
  })

  it('change by each of the three media types', async () => {
    const merge = await send(
      'PATCH',
      'programme/records/P-101',
      { settings: { binning: null, gain: 2 } },
      { 'content-type': 'application/merge-patch+json', 'if-match': '*' },
    )
    expect(merge.body.record.settings).toEqual({ readout: 'slow', gain: 2 })
    const operations = [
      { op: 'test', path: '/hoursLeft', value: '2.70' },
      { op: 'replace', path: '/hoursLeft', value: '2.50' },
    ]
    const patch = (version: number) =>
      send('PATCH', 'programme/records/P-101', operations, {
        'content-type': 'application/json-patch+json',
        'if-match': `"v${version}"`,
      })
    expect((await patch(2)).body.record.hoursLeft).toBe('2.50')
    expect((await patch(3)).body).toMatchObject({ status: 412, code: 'record-changed', current: { hoursLeft: '2.50' } })
    const set = await send(
      'PATCH',
      'programme/records/P-101',
      { set: { settings: { only: 'this' } }, loaded: { hoursLeft: '2.50' } },
      { 'if-match': '"v3"' },
    )
    expect(set.body.record.settings).toEqual({ only: 'this' })
    const stale = await send(
      'PATCH',
      'programme/records/P-101',
      { set: { title: 'x' }, loaded: { hoursLeft: '9.00', title: 'Old' } },
      { 'if-match': '"v4"' },
    )
    expect(stale.body).toMatchObject({
      code: 'record-changed',
      yours: { title: 'x' },
      loaded: { hoursLeft: '9.00', title: 'Old' },
      current: { hoursLeft: '2.50' },
    })
  })

  it('keep every digit of a number inside json, in and out', async () => {
    const body = '{"settings":{"big":12345678901234567890.10,"list":[1e-30,1.0]},"hoursLeft":3.10}'
    const changed = await send('PATCH', 'programme/records/P-102', body, {
      'content-type': 'application/merge-patch+json',
      'if-match': '*',
    })
    expect(changed.text).toContain('"big": 12345678901234567890.10')
    expect(changed.body.record.hoursLeft).toBe('3.10')
    const title = await send(
      'PATCH',
      'programme/records/P-102',
      { title: 'Other' },
      { 'content-type': 'application/merge-patch+json', 'if-match': '"v2"' },
    )
    expect(title.text).toContain('"big": 12345678901234567890.10')
    // Somebody else changed the last digit: to a double both are the same. That it is written otherwise is no change.
    await service.observatory.sql(
      `update programme set settings = jsonb_set(settings, '{big}', '12345678901234567891.10'), row_version = 4 where code = 'P-102'`,
    )
    const conflict = async (big: string) => {
      const settings = `{"readout":"slow","binning":1,"list":[1e-30,1.0],"big":${big}}`
      const body = `{"set":{"title":"Mine"},"loaded":{"settings":${settings}}}`
      return (await send('PATCH', 'programme/records/P-102', body, { 'if-match': '"v3"' })).body
    }
    expect(await conflict('12345678901234567890.10')).toMatchObject({ status: 412, theirs: ['settings'] })
    expect(await conflict('12345678901234567891.1')).toMatchObject({ status: 412, theirs: [] })
  })

  it('refuse a broken rule of the mapping in its own words, and books the refusal', async () => {
    const refused = await send(
      'PATCH',
      'programme/records/P-103',
      { set: { hoursGranted: '2.00' } },
      { 'if-match': '*' },
    )
    expect(refused.status).toBe(409)
    await service.observatory.sql('alter table programme drop constraint programme_hours_left_check')
    const broken = await send(
      'PATCH',
      'programme/records/P-103',
      { set: { hoursGranted: '2.00' } },
      { 'if-match': '*' },
    )
    expect(broken).toMatchObject({
      status: 422,
      body: { code: 'rule-broken', detail: 'A programme cannot have more hours left than it was granted.' },
    })
    const { body } = await service.request('GET', '/v1/targets/observatory/entries?mapping=programme&key=P-103')
    expect(body.entries.map((entry: { problem: string }) => entry.problem)).toEqual([
      'rule-broken',
      'constraint-broken',
    ])
  })
})
