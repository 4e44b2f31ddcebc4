import { request as requestHttp, type IncomingMessage } from 'node:http'
import { connect } from 'node:net'
import { processorCost } from '../../../../testing/processor.js'
import { startTestService, type RunningService } from '../../../../testing/running-service.js'

// Small requests that ask for too much, or for what cannot be: each has a clear answer, and none stops the others.

let service: RunningService
const P107 = '/v1/targets/observatory/mappings/programme/records/P-107'
const PROXY = '127.0.0.2'
const RUNS = '/v1/targets/observatory/runs'

beforeAll(async () => {
  service = await startTestService({ proxies: [PROXY] })
})
afterAll(() => service.stop())

const json = { 'content-type': 'application/json' }
const patchOf = (type: string) => ({ 'content-type': `application/${type}`, 'if-match': '*' })
const steps = (list: object[], more: object = {}) =>
  service.request('POST', RUNS, { body: { mode: 'rehearse', steps: list, ...more }, headers: json })

/** How much of the processor one request may take, in beats. The service shares its process with this test. */
const MOST = 250

describe('one small request', () => {
  const list = Array.from({ length: 4_900 }, (_, at) => at % 10).join()
  const many = (length: number) => Object.fromEntries(Array.from({ length }, (_, at) => [`member${at}`, at]))
  const members = many(4_000)
  const inside = Object.fromEntries(Array.from({ length: 95 }, (_, at) => [`in${at}`, { a: { b: null, c: [at] } }]))
  const deep = (depth: number): object => (depth === 0 ? { end: 1 } : { in: deep(depth - 1) })
  const doubling = [
    { op: 'add', path: '/settings', value: ['x'.repeat(1_000)] },
    ...Array.from({ length: 30 }, () => ({ op: 'copy', from: '/settings', path: '/settings/-' })),
  ]
  const find = (where: string) => () =>
    service.request('POST', '/v1/targets/observatory/mappings/programme/records/find', {
      body: { where },
      headers: json,
    })
  const patch = (body: unknown, type: string) => () =>
    service.request('PATCH', `${P107}?mode=rehearse`, { body, headers: patchOf(type) })
  const publish = (source: string) => () =>
    service.request('PUT', '/v1/targets/observatory/mappings/programme', {
      body: source,
      headers: { 'content-type': 'application/yaml' },
    })
  const review = (text: string) => () =>
    service.request('POST', '/v1/targets/observatory/review', {
      body: { files: [{ path: 'a.sql', text }] },
      headers: json,
    })

  it.each([
    ['a list of 4,900 literals', find(`priority in (${list})`), 200],
    ['a chain of 4,900 additions', find(`${'1+'.repeat(4_900)}1 > 0`), 400],
    ['a sum of 1,000 properties', find(`${'id + '.repeat(999)}id > 0`), 200],
    ['a sum of numbers of several types', find(`${'hoursLeft + 1.5 * id - 2 + '.repeat(300)}id > 0`), 200],
    ['many conditions', find(Array.from({ length: 700 }, () => 'id > 0').join(' and ')), 200],
    ['a merge patch of 4,000 members', patch({ settings: members }, 'merge-patch+json'), 200],
    ['a merge patch into many objects', patch({ settings: inside }, 'merge-patch+json'), 200],
    ['a merge patch 49 objects deep', patch({ settings: deep(48) }, 'merge-patch+json'), 200],
    ['a JSON Patch that doubles', patch(doubling, 'json-patch+json'), 400],
    ['JSON nested 20,000 deep', patch(`${'['.repeat(20_000)}${']'.repeat(20_000)}`, 'merge-patch+json'), 400],
    ['YAML nested in brackets', publish(`mapping: ${'['.repeat(30_000)}`), 400],
    ['YAML nested in dashes', publish(`mapping: a\ntable: b\nkey:\n ${'- '.repeat(30_000)}x`), 400],
    ['YAML with aliases', publish(`mapping: &a [x]\ntable: *a\n`), 400],
    [
      'YAML of 20,000 members',
      publish(`mapping: a\n${Array.from({ length: 20_000 }, (_, at) => `k${at}: 1\n`).join('')}`),
      400,
    ],
    [
      'YAML of 4,000 members',
      publish(`mapping: a\n${Array.from({ length: 4_000 }, (_, at) => `k${at}: 1\n`).join('')}`),
      400,
    ],
    [
      'a step that computes 30,000 members',
      () => steps([{ change: 'programme', key: { code: "'P-107'" }, compute: many(30_000) }]),
      400,
    ],
    [
      'a file named by 40,000 members',
      () =>
        service.request('POST', '/v1/targets/observatory/review', { body: { files: [many(40_000)] }, headers: json }),
      400,
    ],
    ['a long unknown name', find(`${'n'.repeat(9_000)} = 1`), 400],
    ['texts without an end', find(`title = ${"''".repeat(3_000)}'`), 400],
    ['a number that ends in a letter', patch({ hoursLeft: `${'1'.repeat(100_000)}x` }, 'merge-patch+json'), 400],
    ['signs in a raw statement', () => steps([{ sql: `select ${'+'.repeat(90_000)}1` }]), 400],
    [
      'comments in a raw statement',
      () => steps([{ sql: `select 1 ${'/*'.repeat(20_000)}${'*/'.repeat(20_000)}` }]),
      400,
    ],
    ['comments in a reviewed file', review('/* '.repeat(60_000)), 200],
    ['a rule in a reviewed file', review(`create rule r as on insert to site do (${';'.repeat(100_000)}`), 200],
  ])('%s is answered, and takes little of the processor', async (_, work, status) => {
    let answered = 0
    const cost = await processorCost(async () => (answered = (await work()).status), MOST)
    expect(answered).toBe(status)
    expect(cost).toBeLessThan(MOST)
    expect((await service.request('GET', '/healthz')).status).toBe(200)
  })
})

describe('what PostgreSQL cannot hold, or does not take, is a refusal of the request', () => {
  it.each([
    ['half a surrogate pair in an expression', [{ require: `'\ud800' = 'x'` }], 400],
    ['U+0000 in a literal', [{ require: `'a\u0000' = 'x'` }], 400],
    ['chr(0)', [{ sql: 'select chr(0)' }], 409],
    ['a text of two gigabytes', [{ sql: `select repeat('x', 2000000000)` }], 409],
    ['an unknown collation', [{ sql: `select 'a' collate nowhere` }], 400],
    ['1,665 columns', [{ sql: `select ${Array.from({ length: 1_665 }, () => '1').join()}` }], 409],
    ['group by a place that is not there', [{ sql: 'select 1 group by 2' }], 400],
    ['an identity column', [{ sql: 'update block set id = 1 where id = 2', changes: true }], 409],
  ])('%s', async (_, list, status) => {
    const answer = await steps(list)
    expect({ status: answer.status, code: answer.body.code }).toEqual({ status, code: expect.any(String) })
    expect(answer.body.code).not.toBe('internal')
  })

  it.each([
    [`update ledgerman.entry set actor = 'nobody'`, /ledgerman\.entry is the book's own/],
    [`with gone as (delete from "ledgerman".event returning 1) select 1`, /ledgerman\.event is the book's own/],
    [`select ledgerman.refuse('x', 'y')`, /ledgerman\.refuse\(\) is the book's own/],
    [`select pg_catalog.pg_terminate_backend(1)`, /pg_terminate_backend\(\) does what no rollback takes back/],
    [`select 1 where exists (select lo_create(0))`, /lo_create\(\)/],
    [`select pg_advisory_lock(1)`, /pg_advisory_lock\(\)/],
    [`select set_config('app.tenant', '7', false)`, /only for a setting of your own/],
    [`select set_config('statement_timeout', '0', true)`, /only for a setting of your own/],
    [`select set_config('Ledgerman.Actor', 'night-desk', true)`, /the run's own: no step sets it/],
  ])('%s is out of reach of a raw step', async (sql, words) => {
    expect((await steps([{ sql, changes: true }])).body).toMatchObject({
      status: 400,
      code: 'definition-invalid',
      detail: expect.stringMatching(words) as string,
    })
  })

  it('and a setting of their own is not, while the transaction lasts', async () => {
    expect((await steps([{ sql: `select set_config('app.tenant', '7', true)` }])).status).toBe(200)
  })

  it('and leaves no entry that could end the list of entries', async () => {
    await service.request('POST', RUNS, {
      body: `{"mode":"commit","steps":[{"require":"'\\ud800' = 'x'"}]}`,
      headers: json,
    })
    expect((await service.request('GET', '/v1/targets/observatory/entries')).status).toBe(200)
  })

  it.each([
    ['GET', '/v1/targets/observatory/mappings/a%00b', 400],
    ['GET', '/v1/targets/observatory/mappings/programme/records?where=%00', 400],
    ['DELETE', `/v1/tokens/${'-'.repeat(36)}`, 404],
    ['GET', '/v1/targets/observatory/mappings/programme/revisions/2147483648', 400],
    ['POST', '/v1/targets/observatory/mappings', 405],
    ['GET', `${P107}?dryRun=true`, 400],
    ['GET', '/v1/targets?x=1', 400],
  ])('%s %s is answered %i', async (method, path, status) => {
    const answer = await service.request(method, path)
    expect(answer.status).toBe(status)
    if (status === 405) expect(answer.headers.get('allow')).toBe('GET, HEAD')
  })

  it.each(['dryRun=true', 'Mode=rehearse', 'mode=rehearse&mode=commit'])('a change with ?%s', async (query) => {
    const headers = patchOf('merge-patch+json')
    const answer = await service.request('PATCH', `${P107}?${query}`, { body: { priority: 4 }, headers })
    const where = query.startsWith('mode') ? 'mode' : 'query'
    expect(answer).toMatchObject({ status: 400, body: { where, issues: [{ where }] } })
  })

  it.each(['a\u0000b', 'a\u202eb', 'line\nbreak', 'Admin'])('a token named %j', async (name) => {
    const body = { name, role: 'reader' }
    expect((await service.request('POST', '/v1/tokens', { body, headers: json })).status).toBe(400)
  })

  it('a member that would be dropped, wherever it is; in a value that is stored it is one like others', async () => {
    const patch = (body: string) => service.request('PATCH', P107, { body, headers: patchOf('merge-patch+json') })
    expect((await patch('{"__proto__":{"a":1}}')).status).toBe(400)
    const run = `{"mode":"commit","steps":[{"change":"programme","key":{"code":"P-107"},"values":{"priority":4,"__proto__":5}}]}`
    expect((await service.request('POST', '/v1/targets/observatory/runs', { body: run, headers: json })).status).toBe(
      400,
    )
    const dropped = `mapping: dropped\ntable: public.telescope\nkey: [code]\nguard: { by: none }\nproperties:\n  code: { column: code }\n  __proto__: { column: name }\n`
    const put = await service.request('PUT', '/v1/targets/observatory/mappings/dropped', {
      body: dropped,
      headers: { 'content-type': 'application/yaml', 'if-none-match': '*' },
    })
    expect(put).toMatchObject({
      status: 400,
      body: { code: 'definition-invalid', where: 'properties.__proto__', line: 7 },
    })
    const stored = await patch('{"settings":{"__proto__":{"a":1}}}')
    expect([stored.status, stored.text]).toEqual([200, expect.stringMatching(/"__proto__": ?\{"a": ?1\}/)])
  })
})

it('never sends the rest of a large result', async () => {
  const answer = await steps([{ sql: `select repeat('x', 10000) from generate_series(1, 300000)`, as: 'all' }])
  expect(answer).toMatchObject({ status: 200, body: { steps: [{ matched: 300_000 }] } })
})

it('keeps no token from being limited: it makes none that may do more, and lists none', async () => {
  const admin = { name: 'limited admin', role: 'admin', targets: ['observatory'] }
  const limited = (await service.request('POST', '/v1/tokens', { body: admin, headers: json })).body.token as string
  const make = (body: object) => service.request('POST', '/v1/tokens', { body, headers: json, token: limited })
  expect((await make({ name: 'more', role: 'reader' })).status).toBe(403)
  expect((await make({ name: 'as much', role: 'reader', targets: ['observatory'] })).status).toBe(201)
  const { body } = await service.request('GET', '/v1/tokens', { token: limited })
  expect(body.tokens.map(({ name }: { name: string }) => name)).toEqual(['limited admin', 'as much'])
})

it('does not take a session for a token, and slows down who tries many', async () => {
  const login = await service.request('POST', '/v1/session', {
    body: { token: service.token },
    headers: json,
    token: '',
  })
  const secret = /ledgerman_session=([^;]+)/.exec(login.headers.get('set-cookie') ?? '')?.[1] ?? ''
  const cookie = { cookie: `ledgerman_session=${secret}` }
  expect((await service.request('GET', '/v1/session', { headers: cookie, token: '' })).status).toBe(200)
  expect((await service.request('GET', '/v1/session', { token: secret })).status).toBe(401)
  const tries = []
  for (let at = 0; at < 25; at++)
    tries.push(
      (await service.request('POST', '/v1/session', { body: { token: `lgm_${at}` }, headers: json, token: '' })).status,
    )
  expect(new Set(tries)).toEqual(new Set([401, 429]))
})

it('believes who calls, and by what address, of a proxy that it was told of, and of nobody else', async () => {
  const signIn = (localAddress: string, from: string, token: string, more: Record<string, string> = {}) =>
    new Promise<IncomingMessage>((resolve, reject) =>
      requestHttp(`${service.url}/v1/session`, {
        method: 'POST',
        localAddress,
        agent: false,
        headers: { ...json, 'x-forwarded-proto': 'https', 'x-forwarded-for': from, ...more },
      })
        .on('response', (answer) => resolve(answer.resume()))
        .on('error', reject)
        .end(JSON.stringify({ token })),
    )
  for (let at = 0; at < 21; at++) await signIn(PROXY, '192.0.2.7', `lgm_${at}`)
  expect((await signIn(PROXY, '192.0.2.7', service.token)).statusCode).toBe(429)
  const { statusCode, headers } = await signIn(PROXY, '192.0.2.8', service.token)
  expect([statusCode, headers['set-cookie']]).toEqual([200, [expect.stringContaining('Secure')]])
  const elsewhere = await signIn('127.0.0.3', '192.0.2.7', service.token)
  expect([elsewhere.statusCode, elsewhere.headers['set-cookie']]).toEqual([
    200,
    [expect.not.stringContaining('Secure')],
  ])

  const cookie = headers['set-cookie']?.[0]?.split(';')[0] ?? ''
  const changeFrom = (localAddress: string) =>
    new Promise<number | undefined>((resolve, reject) =>
      requestHttp(`${service.url}${P107}?mode=rehearse`, {
        method: 'PATCH',
        localAddress,
        agent: false,
        headers: {
          ...{ ...patchOf('merge-patch+json'), cookie },
          ...{ origin: 'https://desk.harrowfell.example', 'x-forwarded-host': 'desk.harrowfell.example' },
        },
      })
        .on('response', (answer) => resolve(answer.resume().statusCode))
        .on('error', reject)
        .end('{"title": "By way of a proxy"}'),
    )
  expect([await changeFrom(PROXY), await changeFrom('127.0.0.3')]).toEqual([200, 403])
})

it('makes nothing for a HEAD: what goes on, and what is long, ends with its headers', async () => {
  const csv = { accept: 'text/csv' }
  for (const [path, headers] of [
    ['/v1/targets/observatory/waits/events', {}],
    ['/v1/targets/observatory/mappings/exposure/records?limit=1000', csv],
    [P107, {}],
  ] as const) {
    const reply = await fetch(`${service.url}${path}`, {
      method: 'HEAD',
      headers: { authorization: `Bearer ${service.token}`, ...headers },
      signal: AbortSignal.timeout(5_000),
    })
    expect([path, reply.status, await reply.text()]).toEqual([path, 200, ''])
  }
})

/** What comes back for bytes as they are, of which the connection's end is not waited for. */
async function answerTo(bytes: string): Promise<string> {
  const socket = connect(Number(new URL(service.url).port), '127.0.0.1')
  socket.write(bytes)
  const answer = await new Promise<string>((resolve) => socket.once('data', (part) => resolve(part.toString())))
  socket.destroy()
  return answer
}

it('reads nobody’s body before it knows them', async () => {
  const head = `PATCH ${P107} HTTP/1.1\r\nhost: x\r\nauthorization: Bearer nobody\r\ncontent-type: application/json\r\n`
  expect(await answerTo(`${head}content-length: 1000000\r\n\r\n`)).toMatch(/^HTTP\/1.1 401 /)
})

it('answers with a problem what is no request of HTTP, and takes the longest expression in an address', async () => {
  const head = `POST ${RUNS} HTTP/1.1\r\nhost: x\r\nauthorization: Bearer ${service.token}\r\ncontent-type: application/json\r\n`
  for (const [bytes, status, code, detail] of [
    ['nonsense\r\n\r\n', 400, 'request-invalid', 'This is not a request of HTTP/1.1: '],
    [`${head}content-length: 2\r\ncontent-length: 3\r\n\r\n{}`, 400, 'request-invalid', 'This is not a request'],
    [`${head}transfer-encoding: chunked\r\n\r\nzz\r\n`, 400, 'request-invalid', 'This is not a request of HTTP/1.1: '],
    [`GET /healthz?${'x'.repeat(70_000)} HTTP/1.1\r\n\r\n`, 413, 'too-large', 'The address and the headers are longer'],
  ] as const) {
    const [answered = '', body = ''] = (await answerTo(bytes)).split('\r\n\r\n')
    expect(answered).toMatch(new RegExp(`^HTTP/1.1 ${status} [^]*application/problem\\+json`))
    expect(JSON.parse(body)).toMatchObject({ code, status, detail: expect.stringContaining(detail) as string })
  }
  // What follows a run that is at work must not be answered in its place.
  const run = JSON.stringify({ mode: 'rehearse', steps: [{ sql: 'select pg_sleep(0.3)' }] })
  const socket = connect(Number(new URL(service.url).port), '127.0.0.1')
  socket.write(`${head}content-length: ${run.length}\r\n\r\n${run}nonsense\r\n\r\n`)
  let said = ''
  socket.on('data', (part) => (said += part.toString()))
  await new Promise((resolve) => socket.once('close', resolve))
  expect(said).not.toMatch(/not a request of HTTP/)
  const where = encodeURIComponent(`title in ('${'é, '.repeat(3_300)}')`)
  expect(
    await service.request('GET', `/v1/targets/observatory/mappings/programme/records?where=${where}`),
  ).toMatchObject({ status: 200, body: { found: [] } })
})

it('has one operation id for each call, and says how long each may take', async () => {
  const { body } = await service.request('GET', '/openapi.json', { token: '' })
  const operations = Object.values(body.paths as Record<string, Record<string, Record<string, unknown>>>).flatMap(
    (path) => Object.values(path),
  )
  const ids = operations.map(({ operationId }) => operationId)
  expect(new Set(ids).size).toBe(ids.length)
  for (const operation of operations) expect('x-longest-ms' in operation || operation['x-goes-on'] === true).toBe(true)
})
