import type { Socket } from 'node:net'
import { setTimeout as delay } from 'node:timers/promises'
import pg from 'pg'
import type { Job } from '@ledgerman/contract'
import { openProxy, type Proxy } from '../../../../testing/proxy.js'
import { startTestService, type Reply, type RunningService } from '../../../../testing/running-service.js'

// The connection to the home database breaks when a statement has been carried out there and its answer is on the way.

let proxy: Proxy
let service: RunningService

beforeAll(async () => {
  proxy = await openProxy(process.env['LEDGERMAN_TEST_PG'] ?? '')
  service = await startTestService({ homeBy: (url) => proxy.urlOf(url) })
})
afterEach(() => (proxy.rules = {}))
afterAll(async () => {
  await service.stop()
  await proxy.close()
})

const T = '/v1/targets/observatory'
const json = { 'content-type': 'application/json' }
const P107 = `${T}/mappings/programme/records/P-107`

/** Loses the answer to the first statement that says this. @returns whether it came */
function loseAnswer(words: string, times = 1): () => boolean {
  let left = times
  proxy.rules = { onRequest: (text) => (left > 0 && text.includes(words) && left-- > 0 ? 'cutAnswer' : 'pass') }
  return () => left < times
}

async function losing(words: string, ask: () => Promise<Reply>): Promise<Reply> {
  const hasCome = loseAnswer(words)
  const answer = await ask()
  expect(hasCome()).toBe(true)
  return answer
}

/** The same for the commit of the session that was the first to say this: others of the service commit meanwhile. */
async function losingCommit(words: string, ask: () => Promise<Reply>): Promise<Reply> {
  let writer: Socket | undefined
  let isLost = false
  proxy.rules = {
    onRequest(text, client) {
      if (text.includes(words)) writer ??= client
      if (isLost || client !== writer || !text.includes('commit\0')) return 'pass'
      isLost = true
      return 'cutAnswer'
    },
  }
  const answer = await ask()
  expect(isLost).toBe(true)
  return answer
}

async function ended(id: string): Promise<Job> {
  for (;;) {
    const { body } = await service.request('GET', `/v1/jobs/${id}`)
    if (['done', 'failed', 'cancelled'].includes(body.state as string)) return body as Job
    await delay(50)
  }
}

const jobs = async () =>
  ((await service.request('GET', '/v1/jobs?target=observatory')).body as { jobs: Job[] }).jobs.map(({ id, state }) => [
    id,
    state,
  ])
const newJob = (body: object) => service.request('POST', `${T}/jobs`, { body, headers: json })
const CHANGE = { mapping: 'programme', mode: 'commit', where: `code = 'P-110'`, expect: 1 }

describe('an answer of the home database that is lost', () => {
  it('costs no rehearsal: what it saw can be committed', async () => {
    const steps = [{ change: 'programme', key: { code: `'P-107'` }, guard: 'any', values: { priority: 4 } }]
    const run = (body: object) => service.request('POST', `${T}/runs`, { body: { steps, ...body }, headers: json })
    const rehearsed = await losing('ledgerman_home.rehearsal', () => run({ mode: 'rehearse' }))
    expect(rehearsed.status).toBe(200)
    const { rehearsal } = rehearsed.body as { rehearsal: string }
    expect((await run({ mode: 'commit', rehearsal })).status).toBe(201)
    expect((await service.request('GET', P107)).body.record.priority).toBe(4)
  })

  it('opens one session, and revokes a token', async () => {
    const body = { token: service.token }
    const opened = await losing('ledgerman_home.session', () =>
      service.request('POST', '/v1/session', { body, headers: json, token: '' }),
    )
    expect(opened.status).toBe(200)
    const { id, token } = await service.client.addToken({ name: 'night-desk', role: 'reader' })
    const revoked = await losing('set revoked_at', () => service.request('DELETE', `/v1/tokens/${id}`))
    expect(revoked.status).toBe(204)
    expect((await service.request('GET', P107, { token })).status).toBe(401)
  })

  it('begins a job once, keeps its file once, and resumes it', async () => {
    const begun = await losing('ledgerman_home.job (id', () => newJob({ ...CHANGE, values: { priority: 2 } }))
    expect(begun.status).toBe(202)
    expect((await ended(begun.body.id as string)).state).toBe('done')
    const file = { body: 'code,priority\nP-110,9\n', headers: { 'content-type': 'text/csv' } }
    const sent = await losing('ledgerman_home.job_part (', () =>
      service.request('POST', `${T}/jobs?mapping=programme&mode=commit`, file),
    )
    const failed = await ended(sent.body.id as string)
    expect([failed.state, failed.problem?.code, failed.report?.matched]).toEqual(['failed', 'constraint-broken', 1])
    const resumed = await losing(`set state = 'queued', cancel_asked`, () =>
      service.request('POST', `/v1/jobs/${failed.id}/resume`),
    )
    expect(resumed.status).toBe(202)
    expect((await ended(failed.id)).state).toBe('failed')
    expect((await jobs()).sort()).toEqual(
      [
        [begun.body.id, 'done'],
        [failed.id, 'failed'],
      ].sort(),
    )
  })

  it('leaves it open whether a job is begun, where the database does not come back in time', async () => {
    const asked = { ...CHANGE, compute: { priority: 'priority % 5 + 1' } }
    const before = await jobs()
    loseAnswer('ledgerman_home.job', 50)
    const answer = await newJob(asked)
    expect([answer.status, answer.body]).toEqual([503, expect.objectContaining({ code: 'outcome-unknown' })])
    const { job, detail } = answer.body as { job: string; detail: string }
    expect(detail).toContain(`look for it (GET /v1/jobs/${job}) before you ask again`)
    proxy.rules = {}
    expect((await ended(job)).state).toBe('done')
    expect(await jobs()).toHaveLength(before.length + 1)
  })

  it('leaves it open whether a token, or a definition, is kept whose commit was not answered', async () => {
    const source =
      'mapping: lamp\ntable: public.telescope\nkey: [code]\nguard: { by: none }\nproperties: { code: { column: code } }'
    const publish = () =>
      service.request('POST', `${T}/definitions`, { body: { definitions: [{ source }] }, headers: json })
    const token = () => service.request('POST', '/v1/tokens', { body: { name: 'kim', role: 'reader' }, headers: json })
    for (const [table, ask] of Object.entries({ definition: publish, token })) {
      const { status, body } = await losingCommit(`insert into ledgerman_home.${table} `, ask)
      expect([status, body]).toEqual([503, expect.objectContaining({ code: 'outcome-unknown', home: true })])
    }
    const { tokens } = (await service.request('GET', '/v1/tokens')).body as { tokens: { name: string }[] }
    expect(tokens.map(({ name }) => name)).toContain('kim')
    expect((await publish()).body).toMatchObject({ definitions: [{ name: 'lamp', revision: 1 }] })
  })

  it('makes no refusal of a session that has ended', async () => {
    const other = new pg.Client({ connectionString: service.observatory.url, application_name: 'left open' })
    other.on('error', () => undefined)
    await other.connect()
    await other.query('begin')
    const [{ pid, began } = {}] = await service.observatory.sql(
      `select pid, to_char(backend_start at time zone 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS.US"Z"') as began
       from pg_stat_activity where application_name = 'left open'`,
    )
    loseAnswer('ledgerman_home.ended_session', 9)
    const answer = await service.request('POST', `${T}/waits/${String(pid)}/end`, {
      body: { startedAt: began },
      headers: json,
    })
    expect([answer.status, answer.body]).toEqual([200, { pid, action: 'end', done: true }])
    await other.end().catch(() => undefined)
  })
})

describe('a drill whose home server is lost', () => {
  const move = { transaction: 'move-hours', params: { from: 'P-107', to: 'P-112', hours: '0.01' } }
  const back = { transaction: 'move-hours', params: { from: 'P-112', to: 'P-107', hours: '0.01' } }
  const drills = {
    fault: { kind: 'fault', ...move },
    interleaving: { kind: 'interleaving', runs: [move, back] },
    race: { kind: 'race', runs: [move, back], times: 2_000, keep: ['sum(programme.hoursLeft)'] },
  }
  const lost = [503, expect.objectContaining({ code: 'scratch-unavailable' })]
  const drill = async (body: unknown) => {
    const answer = await service.request('POST', `${T}/drills`, { body, headers: json })
    return [answer.status, answer.body]
  }

  /** Loses every connection there from the request of that number on, but for those that drop what is left, as other tests look for it. */
  function loseAll(from: number): void {
    const dropping = new Set<Socket>()
    let asked = 0
    proxy.rules = {
      onRequest(text, client) {
        if (text.includes('ledgerman drills')) dropping.add(client)
        return dropping.has(client) || ++asked < from ? 'pass' : 'cut'
      },
    }
  }

  it.each(Object.entries(drills))('has not passed, and says why: %s', async (_kind, body) => {
    proxy.rules = { onRequest: (text) => (text.includes('create database') ? 'cut' : 'pass') }
    expect(await drill(body)).toEqual(lost)
    // What is asked of the scratch database goes by way of the proxy, what is asked of the target does not: this is in the middle of the runs.
    loseAll(200)
    expect(await drill(body)).toEqual(lost)
    proxy.rules = {}
    expect(await drill({ ...drills.race, times: 10 })).toEqual([200, expect.objectContaining({ passed: true })])
  })

  it('nor is a run gone through that cannot be looked at', async () => {
    const begun = await service.request('POST', `${T}/walks`, { body: { run: move }, headers: json })
    const { id } = begun.body as { id: string }
    const next = () => service.request('POST', `${T}/walks/${id}/next`)
    expect((await next()).status).toBe(200)
    loseAll(1)
    const { status, body } = await next()
    expect([status, body]).toEqual(lost)
    proxy.rules = {}
    expect((await next()).body).toMatchObject({ code: 'scratch-unavailable' })
    expect((await service.request('DELETE', `${T}/walks/${id}`)).status).toBe(204)
  })
})
