import fc from 'fast-check'
import { parseJson, printJson, type Json } from '@ledgerman/contract'
import { KINDS_DDL, KINDS_PROPERTIES, kindsRecord } from '../../../../testing/every-kind.js'
import { startTestService, type RunningService } from '../../../../testing/running-service.js'
import { jobEnds } from '../job-ends.js'

// Records with a value of each kind go out and come back, by every way there is: nothing of them changes.
let service: RunningService
const { run, putBack } = jobEnds(() => service)
const target = () => service.client.target('observatory')
const M = '/v1/targets/observatory/mappings/kinds'
const RECORDS = 40
const JSON_BODY = { 'content-type': 'application/json' }

const stored = () => service.observatory.sql('select id, kinds::text as row from kinds order by id')

const mapped = (by: string) => ({
  mapping: 'kinds',
  table: 'public.kinds',
  key: ['id'],
  guard: { by },
  properties: KINDS_PROPERTIES,
})

beforeAll(async () => {
  service = await startTestService()
  await service.observatory.sql(`${KINDS_DDL}; grant all on kinds to ledgerman_worker`)
  await target().publishMapping('kinds', JSON.stringify(mapped('rowStamp')))
  const records = fc.sample(kindsRecord, RECORDS)
  for (const [at, record] of records.entries()) {
    const body = printJson({ id: at + 1, ...record } as never)
    const added = await service.request('POST', `${M}/records`, { body, headers: JSON_BODY })
    expect([added.status, added.status === 201 ? '' : added.text]).toEqual([201, ''])
  }
})
afterAll(() => service.stop())

async function exported(type: string): Promise<string> {
  const { text } = await service.request('GET', `${M}/records?order=id`, { headers: { accept: type } })
  return text
}

describe.each(['text/csv', 'application/x-ndjson'])('as %s', (type) => {
  const send = (text: string) => run(text, { mode: 'commit', mapping: 'kinds' }, { 'content-type': type })

  it('an export is a file of corrections that changes nothing', async () => {
    const before = await stored()
    const job = await send(await exported(type))
    expect([job.problem, job.report]).toMatchObject([null, { matched: RECORDS, changed: 0, same: RECORDS }])
    expect(await stored()).toEqual(before)
  })

  it('is what another record gets by it, and is put back', async () => {
    const before = await stored()
    const [moment] = await service.observatory.sql('select clock_timestamp()::text as now')
    const text = await exported(type)
    // Each record gets the values of the one at the other end.
    const id = type === 'text/csv' ? /^(\d+)(?=,)/gm : /(?<=^\{"id":)\d+/gm
    const job = await send(text.replace(id, (own) => String(RECORDS + 1 - Number(own))))
    expect([job.problem, job.state]).toEqual([null, 'done'])
    const turned = [...before].reverse().map(({ row }) => String(row).replace(/^\(\d+/, ''))
    expect((await stored()).map(({ row }) => String(row).replace(/^\(\d+/, ''))).toEqual(turned)
    await putBack(moment?.['now'] as string)
    expect(await stored()).toEqual(before)
  })
})

it('a record that is loaded and sent back whole is the same', async () => {
  const before = await stored()
  for (let id = 1; id <= RECORDS; id++) {
    const { text } = await service.request('GET', `${M}/records/${id}`)
    const { record } = parseJson(text) as { record: Json }
    const replaced = await service.request('PUT', `${M}/records/${id}`, {
      body: printJson(record),
      headers: { ...JSON_BODY, 'if-match': '*' },
    })
    expect([id, replaced.status, replaced.status === 200 ? '' : replaced.text]).toEqual([id, 200, ''])
  }
  expect(await stored()).toEqual(before)
})

interface Told {
  kind: string
  changes: { property: string; before: Json; after: Json }[]
}
const historyOf = async (id: number) => {
  const { text } = await service.request('GET', `${M}/records/${id}/history`)
  return (parseJson(text) as unknown as { history: Told[] }).history
}

it('the history of a record ends with what it is, and nothing in it happened outside the book', async () => {
  for (let id = 1; id <= RECORDS; id++) {
    const { text } = await service.request('GET', `${M}/records/${id}`)
    const { record } = parseJson(text) as { record: Record<string, Json> }
    const history = await historyOf(id)
    expect(new Set(history.map(({ kind }) => kind))).toEqual(new Set(['added', 'changed', 'reversed']))
    const last = new Map(
      history.toReversed().flatMap(({ changes }) => changes.map((each) => [each.property, each.after])),
    )
    expect(printJson(Object.fromEntries(last))).toBe(printJson(record))
  }
})

it('the history of what became sensitive since shows no value of it, and what was sensitive stays so', async () => {
  const told = async () => (await Promise.all([1, 2, 3].map(historyOf))).flat()
  const was = await told()
  const secret = Object.entries(mapped('rowStamp').properties).map(([name, property]) => [
    name,
    name === 'id' ? property : { ...property, sensitive: true },
  ])
  await target().publishMapping(
    'kinds',
    JSON.stringify({ ...mapped('rowStamp'), properties: Object.fromEntries(secret) as object }),
  )
  const hidden = await told()
  expect(hidden.map(({ kind }) => kind)).toEqual(was.map(({ kind }) => kind))
  for (const { property, after } of hidden.flatMap(({ changes }) => changes))
    if (property !== 'id' && after !== null) expect(after).toMatch(/^hmac:/)
  const { record } = (await service.request('GET', `${M}/records/1`)).body
  const changed = await service.request('PATCH', `${M}/records/1`, {
    body: printJson({ bool: !(record as { bool: boolean }).bool, numeric: '1.5', jsonb: { a: 1 }, host: '10.0.0.1' }),
    headers: { 'content-type': 'application/merge-patch+json', 'if-match': '*' },
  })
  expect([changed.status, changed.text]).toEqual([200, expect.any(String)])
  await target().publishMapping('kinds', JSON.stringify(mapped('rowStamp')))
  const [newest, ...older] = await historyOf(1)
  expect([newest?.kind, older]).toEqual(['changed', was.slice(0, older.length)])
  for (const { after } of newest?.changes ?? []) expect(after).toMatch(/^hmac:/)
})

it.each(['rowStamp', 'values', 'none'])(
  'written code does with them what the service does, with guard %s',
  async (by) => {
    await target().publish([{ source: JSON.stringify(mapped(by)) }])
    for (const book of [false, true]) {
      const { cases, passed, notTried } = await target().proveCode({ mappings: ['kinds'], book })
      expect(cases.filter(({ same }) => !same)).toEqual([])
      expect([passed, notTried, cases.filter(({ service: told }) => told.includes('"changed":1')).length]).toEqual([
        true,
        [],
        6,
      ])
    }
  },
)
