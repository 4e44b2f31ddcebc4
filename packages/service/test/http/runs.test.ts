import { startTestService, type RunningService } from '../../../../testing/running-service.js'

let service: RunningService
const T = '/v1/targets/observatory'
const JSON_TYPE = { 'content-type': 'application/json' }
const run = (body: object, headers: Record<string, string> = {}, token?: string) =>
  service.request('POST', `${T}/runs`, { body, headers: { ...JSON_TYPE, ...headers }, ...(token ? { token } : {}) })
const publish = (source: string) =>
  service.request('POST', `${T}/definitions`, {
    headers: JSON_TYPE,
    body: { definitions: [{ file: 'a.yaml', source }] },
  })
const move = { transaction: 'move-hours', params: { from: 'P-107', to: 'P-112', hours: '4' } }

beforeAll(async () => {
  service = await startTestService()
})
afterAll(() => service.stop())

describe('runs over HTTP', () => {
  it('rehearse, commit exactly that, confirm, and can be sent again', async () => {
    const rehearsed = await run({ ...move, mode: 'rehearse' })
    expect(rehearsed).toMatchObject({
      status: 200,
      body: { outcome: 'rehearsed', entry: null, rehearsal: expect.any(String), steps: { length: 6 } },
    })
    for (const where of ['rehearsal', 'confirm'] as const) {
      const of = { rehearsal: rehearsed.body.rehearsal, confirm: true }
      const refused = await run({ ...move, mode: 'rehearse', [where]: of[where] })
      expect(refused.body).toMatchObject({ status: 400, code: 'request-invalid', where })
    }
    const other = await run({
      ...move,
      mode: 'commit',
      params: { ...move.params, hours: '5' },
      rehearsal: rehearsed.body.rehearsal,
    })
    expect(other.body).toMatchObject({ status: 412, code: 'rehearsal-stale' })
    const commit = { ...move, mode: 'commit', rehearsal: rehearsed.body.rehearsal, confirm: true, note: 'night shift' }
    const committed = await run(commit, { 'idempotency-key': '"one"' })
    expect(committed).toMatchObject({
      status: 201,
      body: { outcome: 'committed', note: 'night shift', confirmed: { rows: 2, asWritten: 2, writtenAgainSince: 0 } },
    })
    expect(committed.headers.get('link')).toContain(committed.body.entry)
    expect(await run(commit, { 'idempotency-key': '"one"' })).toMatchObject({
      status: 200,
      body: { id: committed.body.id, replayed: true },
    })
    expect((await run({ ...commit, note: 'other' }, { 'idempotency-key': '"one"' })).body.code).toBe(
      'idempotency-key-reused',
    )
    const entry = await service.request('GET', committed.body.entry)
    expect(entry.body).toMatchObject({
      transaction: 'move-hours',
      receipt: { steps: { length: 6 }, isolation: 'read committed', definitions: { programme: 1 } },
    })
    const list = await service.request(
      'GET',
      `${T}/entries?mapping=programme&key=P-112&transaction=move-hours&from=2020-01-01T00:00:00Z`,
    )
    expect(list.body.entries).toMatchObject([{ id: committed.body.id, kind: 'run' }])
    // Another transaction has a step of the same text, and its own names in it.
    const params = { programme: 'P-110', factor: '1.05' }
    const stretched = await run({ mode: 'commit', transaction: 'stretch-exposures', params })
    const { receipt } = (await service.request('GET', stretched.body.entry)).body as {
      receipt: { steps: { binds: object[] }[] }
    }
    expect(receipt.steps[0]?.binds).toMatchObject([{ name: ':programme', value: 'P-110' }])
  })

  it('are for writers, and for authors where raw statements are sent', async () => {
    const { token } = (await service.client.addToken({ name: 'desk', role: 'writer' })) as { token: string }
    const steps = [{ change: 'programme', key: { code: `'P-101'` }, values: { priority: 1 } }]
    expect((await run({ ...move, mode: 'rehearse' }, {}, token)).status).toBe(200)
    expect((await run({ mode: 'rehearse', steps }, {}, token)).status).toBe(200)
    const raw = [
      ...steps,
      { sql: `update programme set priority = 1 where code = 'P-101'`, changes: true, expect: 'one' },
    ]
    expect((await run({ mode: 'rehearse', steps: raw }, {}, token)).body).toMatchObject({
      status: 403,
      code: 'forbidden',
    })
    expect((await run({ mode: 'rehearse', steps: raw })).status).toBe(200)
  })

  it('refuse bad input in words that help', async () => {
    const wrong: [object, string, RegExp][] = [
      [{ ...move, mode: 'comit' }, 'request-invalid', /mode/],
      [
        { ...move, mode: 'commit', params: { from: 'P-107', to: 'P-112' } },
        'request-invalid',
        /needs the parameter hours/,
      ],
      [{ ...move, mode: 'commit', params: { ...move.params, hurs: 1 } }, 'request-invalid', /Did you mean hours/],
      [{ ...move, mode: 'commit', params: { ...move.params, hours: 'many' } }, 'value-invalid', /:hours: expected/],
      [
        { ...move, mode: 'commit', params: { ...move.params, to: 'P-107' } },
        'rule-broken',
        /parameter :to breaks its rule/,
      ],
      [{ mode: 'commit', transaction: 'move-hour', params: {} }, 'not-found', /Did you mean move-hours/],
      [
        { mode: 'commit', steps: [{ chnge: 'programme' }] },
        'request-invalid',
        /steps\.1.* expected a step with one of load, change/,
      ],
      [
        { mode: 'rehearse', steps: [{ load: 'programme', key: { title: `'x'` } }] },
        'definition-invalid',
        /no unique key of programme; its key is code/,
      ],
      [
        { mode: 'rehearse', steps: [{ load: 'programe', key: { code: `'x'` } }] },
        'definition-invalid',
        /no mapping programe\. Did you mean programme\?/,
      ],
      [{ mode: 'commit', steps: [{ remove: 'skyFeed', where: 'true', expect: 'any' }] }, 'count-mismatch', /everyRow/],
    ]
    for (const [body, code, words] of wrong) {
      const answer = (await run(body)).body
      expect([answer.code, answer.detail]).toEqual([code, expect.stringMatching(words)])
    }
  })
})

describe('a transaction definition', () => {
  const head = 'transaction: t\nparams:\n  code: { type: text }\n'
  it.each<[string, string, number, RegExp]>([
    [
      'an unknown name',
      `${head}steps:\n  - load: programme\n    as: p\n    key: { code: ':code' }\n  - require: p.hoursLft > 1\n`,
      8,
      /hoursLft is not a property of programme at character 1\. Did you mean hoursLeft\?/,
    ],
    [
      'types that do not fit, as PostgreSQL says',
      `${head}steps:\n  - change: programme\n    key: { code: ':code' }\n    compute: { hoursLeft: "title || ''" }\n  - require: ':code > 3'\n`,
      8,
      /text > integer/,
    ],
    [
      'a parameter nobody uses',
      `${head}  more: { type: integer }\nsteps:\n  - load: programme\n    key: { code: ':code' }\n`,
      4,
      /no step uses it/,
    ],
    [
      'a where without a count',
      `${head}steps:\n  - load: programme\n    where: code = :code\n`,
      5,
      /says how many rows it expects/,
    ],
    [
      'a raw statement that writes',
      `${head}steps:\n  - sql: update programme set priority = 1 where code = :code\n`,
      5,
      /say changes: true/,
    ],
    [
      'an example that breaks a rule',
      `${head}  n: { type: integer, rule: ':n > 1' }\nexamples:\n  - { code: x, n: 1 }\nsteps:\n  - load: programme\n    key: { code: ':code' }\n  - require: ':n = 1'\n`,
      6,
      /breaks the rule of n/,
    ],
    [
      'an unknown type',
      `transaction: t\nparams:\n  code: { type: txt }\nsteps:\n  - require: ':code is null'\n`,
      3,
      /no type txt/,
    ],
    [
      'a text that looks like a parameter',
      `${head}steps:\n  - change: programme\n    key: { code: ':code' }\n    values: { title: ':code' }\n`,
      7,
      /use compute/,
    ],
    [
      'the same where a label is meant',
      `${head}steps:\n  - change: telescope\n    key: { code: ':code' }\n    values: { status: ':code' }\n`,
      7,
      /use compute/,
    ],
    [
      'a member it does not know',
      `${head}steps:\n  - load: programme\n    wher: code = :code\n`,
      6,
      /unknown member wher \(did you mean where\?\)/,
    ],
    [
      'a mapping there is not',
      `${head}steps:\n  - load: programe\n    key: { code: ':code' }\n`,
      5,
      /no mapping programe\. Did you mean programme\?/,
    ],
    [
      'a name that is taken',
      `${head}steps:\n  - load: programme\n    as: code\n    key: { code: ':code' }\n`,
      6,
      /name of a parameter already/,
    ],
  ])('is refused for %s, with its line', async (_, source, line, words) => {
    const { status, body } = await publish(source)
    expect([status, body.code]).toEqual([400, 'definition-invalid'])
    expect(body.findings).toContainEqual(
      expect.objectContaining({ file: 'a.yaml', line, message: expect.stringMatching(words) }),
    )
  })

  it('keeps its revisions, and holds up a mapping that would break it', async () => {
    const source = (await service.client.target('observatory').mapping('hoursTransfer')).source
    const { body } = await publish(source.replace('  hours: { column: hours }\n', ''))
    expect(body.findings[0].message).toMatch(
      /the transaction move-hours uses it and would no longer fit: .*hours is not a property/,
    )
    const yaml = { 'content-type': 'application/yaml' }
    const mine = `transaction: mine\nparams:\n  code: { type: text }\nsteps:\n  - load: programme\n    key: { code: ':code' }\n`
    const put = (text: string, headers = {}) =>
      service.request('PUT', `${T}/transactions/mine`, { body: text, headers: { ...yaml, ...headers } })
    expect((await put(mine)).status).toBe(201)
    expect((await put(mine)).body.revision).toBe(1)
    expect((await put(`${mine}retry: 1\n`, { 'if-match': '"9"' })).body.code).toBe('record-changed')
    expect((await put(`${mine}retry: 1\n`, { 'if-match': '"1"' })).body.revision).toBe(2)
    expect((await service.request('GET', `${T}/transactions/mine/revisions/1`)).body.source).toBe(mine)
    expect(
      (await run({ mode: 'rehearse', transaction: 'mine', revision: 1, params: { code: 'P-101' } })).body.revision,
    ).toBe(1)
    expect((await service.request('DELETE', `${T}/transactions/mine`)).status).toBe(204)
  })
})
