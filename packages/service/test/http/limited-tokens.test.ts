import { LedgermanClient } from '@ledgerman/client'
import { startTestService, type RunningService } from '../../../../testing/running-service.js'

// A form for one purpose: a mapping with fewer properties and rules of its own, and a token that can do that and nothing else.
let service: RunningService
let token: string
beforeAll(async () => {
  service = await startTestService()
  const added = await service.client.addToken({
    name: 'night-assistant',
    role: 'writer',
    only: ['assistantBlock', 'move-hours'],
  })
  token = added.token
})
afterAll(() => service.stop())

const T = '/v1/targets/observatory'
const json = { 'content-type': 'application/json' }
const call = (method: string, path: string, body?: object) =>
  service.request(method, path, { token, ...(body ? { body, headers: json } : {}) })

describe('a token that is limited to some definitions', () => {
  it('can use them: find, load, change by their rules, run, send steps, begin and follow a job', async () => {
    const client = new LedgermanClient({ url: service.url, token }).target('observatory')
    const { record, guard } = await client.load('assistantBlock', ['5'])
    expect(Object.keys(record)).toEqual(['id', 'targetName', 'night', 'slot', 'state', 'assignedTo', 'rowVersion'])
    const refused = client.change('assistantBlock', ['5'], { state: 'done' }, { guard: guard ?? '' })
    await expect(refused).rejects.toMatchObject({
      code: 'rule-broken',
      facts: {
        broken: [
          { property: 'state', value: 'done' },
          { property: 'assignedTo', value: null },
        ],
      },
    })
    await client.change('assistantBlock', ['5'], { state: 'done', assignedTo: 3 }, { guard: guard ?? '' })
    expect((await client.find('assistantBlock', { where: 'assignedTo = 3 and id = 5' })).found).toHaveLength(1)
    expect((await client.mappings()).map(({ name }) => name)).toEqual(['assistantBlock'])
    expect((await call('GET', '/v1/session')).body.only).toEqual(['assistantBlock', 'move-hours'])
    expect(
      (
        await call('POST', `${T}/runs`, {
          mode: 'rehearse',
          transaction: 'move-hours',
          params: { from: 'P-107', to: 'P-112', hours: 1 },
        })
      ).status,
    ).toBe(200)
    const steps = [{ change: 'assistantBlock', key: { id: '6' }, values: { state: 'done', assignedTo: 3 } }]
    expect((await call('POST', `${T}/runs`, { mode: 'rehearse', steps })).status).toBe(200)
    const job = {
      mode: 'rehearse',
      mapping: 'assistantBlock',
      where: 'id in (7, 8)',
      values: { assignedTo: 2, state: 'done' },
      expect: 'any',
    }
    const begun = await call('POST', `${T}/jobs`, job)
    expect(begun.status).toBe(202)
    expect((await call('GET', `/v1/jobs/${begun.body.id}`)).status).toBe(200)
  })

  const refused: [string, string, object?][] = [
    ['GET', `${T}/mappings/block/records/5`],
    ['GET', `${T}/mappings/programme/records?where=true`],
    ['PATCH', `${T}/mappings/programme/records/P-107`, {}],
    ['POST', `${T}/runs`, { mode: 'rehearse', transaction: 'swap-slots', params: {} }],
    [
      'POST',
      `${T}/runs`,
      { mode: 'rehearse', steps: [{ change: 'block', key: { id: '6' }, values: { state: 'done' } }] },
    ],
    ['POST', `${T}/jobs`, { mode: 'rehearse', mapping: 'block', where: 'id = 1', values: { slot: 1 }, expect: 'any' }],
    ['GET', '/v1/jobs'],
    ['GET', `${T}/entries`],
    ['GET', `${T}/waits`],
    ['GET', `${T}/tables`],
    ['GET', `${T}/transactions/swap-slots`],
    ['POST', `${T}/code`, {}],
    ['GET', '/v1/tokens'],
  ]

  it('cannot do anything else', async () => {
    for (const [method, path, body] of refused) {
      const { status, body: told } = await call(method, path, body)
      expect([method, path, status, told.code]).toEqual([method, path, 403, 'forbidden'])
    }
  })

  it('has to name what is there', async () => {
    await expect(service.client.addToken({ name: 'x', role: 'reader', only: ['assistantBlok'] })).rejects.toMatchObject(
      {
        code: 'not-found',
        detail: expect.stringMatching(/Did you mean assistantBlock/),
      },
    )
  })
})

describe('a refusal for a constraint', () => {
  it('tells the values that break it, of the record as it was guarded', async () => {
    const client = service.client.target('observatory')
    const { guard } = await client.load('programme', ['P-107'])
    const change = (values: object) => client.change('programme', ['P-107'], values as never, { guard: guard ?? '' })
    await expect(change({ hoursLeft: '999' })).rejects.toMatchObject({
      code: 'constraint-broken',
      facts: {
        broken: [
          { property: 'hoursGranted', value: '69.00' },
          { property: 'hoursLeft', value: '999' },
        ],
      },
    })
    await expect(change({ leadId: 999 })).rejects.toMatchObject({
      facts: { broken: [{ property: 'leadId', value: 999 }] },
    })
    const any = client.change('programme', ['P-107'], { hoursLeft: '999' }, { guard: '*' })
    // Of the other property nobody said as what it was seen.
    await expect(any).rejects.toMatchObject({ facts: { broken: [{ property: 'hoursLeft', value: '999' }] } })
  })
})

describe('the tokens of a service', () => {
  it('always have one that may do everything, and each a name of its own', async () => {
    const admin = (await service.client.tokens()).find(({ name }) => name === 'admin')
    await service.client.addToken({ name: 'Half', role: 'admin', targets: ['observatory'] })
    await expect(service.client.revokeToken(admin?.id ?? '')).rejects.toMatchObject({
      code: 'request-invalid',
      detail: 'admin is the last token of an admin without limits. Make another first, or nobody could.',
    })
    await expect(service.client.addToken({ name: 'half', role: 'reader' })).rejects.toMatchObject({
      detail:
        'There is a token named Half already, which differs in letter case only. Its name is the actor of its entries, so each needs its own.',
    })
    const second = await service.client.addToken({ name: 'second', role: 'admin' })
    const third = await service.client.addToken({ name: 'third', role: 'admin' })
    const all = [{ id: admin?.id ?? '', token: service.token }, second, third]
    // Asked at once, they take turns.
    const revoked = await Promise.allSettled(all.map(({ id }) => service.client.revokeToken(id)))
    const left = revoked.map(({ status }) => status === 'rejected')
    expect(left.filter((isLeft) => isLeft)).toHaveLength(1)
    for (const [at, { token }] of all.entries()) {
      const tokens = new LedgermanClient({ url: service.url, token }).tokens()
      if (left[at]) await expect(tokens).resolves.toHaveLength(3)
      else await expect(tokens).rejects.toMatchObject({ code: 'unauthenticated' })
    }
  })
})
