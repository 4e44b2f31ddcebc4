import { startTestService, type RunningService } from '../../../../testing/running-service.js'

// What the service counts, read as whoever scrapes it would.

let service: RunningService
const P107 = '/v1/targets/observatory/mappings/programme/records/P-107'

beforeAll(async () => {
  service = await startTestService()
})
afterAll(() => service.stop())

const scrape = async () => {
  const answer = await fetch(`${service.url}/metrics`)
  return { type: answer.headers.get('content-type'), text: await answer.text() }
}
const valueOf = (text: string, line: string) =>
  Number(
    text
      .split('\n')
      .find((each) => each.startsWith(line))
      ?.split(' ')
      .at(-1) ?? Number.NaN,
  )

describe('the metrics', () => {
  it('count changes and runs by what came of them, and time each route', async () => {
    const target = service.client.target('observatory')
    await target.change('programme', ['P-107'], { hoursLeft: '7.25' }, { guard: 'v1' })
    await target.change('programme', ['P-107'], { hoursLeft: '7.50' }, { guard: 'v1' }).catch(() => undefined)
    await target.run({
      mode: 'rehearse',
      transaction: 'move-hours',
      params: { from: 'P-107', to: 'P-112', hours: '1' },
    })
    const { type, text } = await scrape()
    expect(type).toMatch(/^text\/plain/)
    const runs = (labels: string) => valueOf(text, `ledgerman_runs_total{target="observatory",${labels}}`)
    expect(runs('what="change",mode="commit",outcome="committed",code=""')).toBe(1)
    expect(runs('what="change",mode="commit",outcome="refused",code="record-changed"')).toBe(1)
    expect(runs('what="run",mode="rehearse",outcome="rehearsed",code=""')).toBe(1)
    const route = 'PATCH /v1/targets/{target}/mappings/{mapping}/records/{key}'
    expect(valueOf(text, `ledgerman_request_duration_seconds_count{route="${route}",status="412"}`)).toBe(1)
    for (const name of ['nodejs_eventloop_lag_seconds', 'process_resident_memory_bytes', 'ledgerman_walks_open'])
      expect(valueOf(text, name)).toBeGreaterThanOrEqual(0)
  })

  it('show who waits, for what, and how long a lock was waited for', async () => {
    const holder = await service.observatory.session()
    await holder.query(`begin; select 1 from programme where code = 'P-107' for update`)
    const callers = Array.from({ length: 8 }, () => service.request('DELETE', P107, { headers: { 'if-match': '*' } }))
    await new Promise((resolve) => setTimeout(resolve, 400))
    const during = (await scrape()).text
    await holder.query('rollback')
    await holder.end()
    await Promise.all(callers)
    expect(valueOf(during, 'ledgerman_waiting_callers{target="observatory",for="record"}')).toBeGreaterThanOrEqual(5)
    expect(valueOf(during, 'ledgerman_sessions{target="observatory",for="write",state="busy"}')).toBeGreaterThanOrEqual(
      2,
    )
    const after = (await scrape()).text
    expect(valueOf(after, 'ledgerman_lock_wait_seconds_count{target="observatory"}')).toBeGreaterThanOrEqual(1)
  })

  it('hold no key, value or name of a caller', async () => {
    const { text } = await scrape()
    for (const secret of ['P-107', '7.25', 'admin', 'programme', service.token]) expect(text).not.toContain(secret)
  })
})
