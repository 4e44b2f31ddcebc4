import type { EntryRow } from '@ledgerman/contract'
import { startTestService, type RunningService } from '../../../../testing/running-service.js'

// A receipt holds a hundred rows of a step; an entry gives all that it wrote, page by page or as they come.
let service: RunningService
const sql = (text: string, values?: unknown[]) => service.observatory.sql(text, values)
const target = () => service.client.target('observatory')
const rowsPath = (entry: string) => `/v1/targets/observatory/entries/${entry}/rows`
const inForm = (entry: string, accept: string) => service.request('GET', rowsPath(entry), { headers: { accept } })

async function paged(entry: string, limit: number): Promise<EntryRow[]> {
  const all: EntryRow[] = []
  let after: string | null = null
  do {
    const page: { rows: EntryRow[]; next: string | null } = await target().book.rows(entry, {
      limit,
      ...(after === null ? {} : { after }),
    })
    expect(page.rows.length).toBeLessThanOrEqual(limit)
    all.push(...page.rows)
    after = page.next
  } while (after !== null)
  return all
}

async function streamed(entry: string): Promise<EntryRow[]> {
  const { text } = await inForm(entry, 'application/x-ndjson')
  return text
    .split('\n')
    .filter(Boolean)
    .map((line) => JSON.parse(line) as EntryRow)
}

beforeAll(async () => {
  service = await startTestService()
})
afterAll(() => service.stop())

it('are all rows of a job, each once, on pages of any size', async () => {
  const before = await sql('select id::text, seconds::text from exposure e where id <= 2345 order by e.id')
  const job = await target().beginJob({
    mode: 'commit',
    mapping: 'exposure',
    where: 'id <= 2345',
    compute: { seconds: 'seconds + 1' },
    expect: 2345,
  })
  for await (const _ of service.client.followJob(job.id));
  const [entry = ''] = (await service.client.job(job.id)).entries
  const after = new Map(
    (await sql('select id::text, seconds::text from exposure')).map((row) => [row['id'], row['seconds']]),
  )
  const expected = before.map(({ id, seconds }) => ({
    step: 1,
    kind: 'change',
    mapping: 'exposure',
    key: { id },
    before: { seconds },
    after: { seconds: after.get(id) },
  }))
  const byId = (rows: EntryRow[]) => rows.sort((one, other) => Number(one.key['id']) - Number(other.key['id']))
  expect(byId(await streamed(entry))).toEqual(expected)
  for (const limit of [1000, 999, 391]) expect(byId(await paged(entry, limit))).toEqual(expected)
  const csv = (await inForm(entry, 'text/csv')).text.trimEnd().split('\r\n')
  expect(csv[0]).toBe('step,kind,mapping,key.id,before.seconds,after.seconds')
  expect(csv.slice(1).sort()).toEqual(
    expected
      .map(
        ({ key, before, after }) =>
          `1,change,exposure,${String(key.id)},${String(before.seconds)},${String(after.seconds)}`,
      )
      .sort(),
  )
})

it('are those of each step of a run, of a change by key, and of a removal; sensitive values as digests', async () => {
  const run = await target().run({
    mode: 'commit',
    transaction: 'move-hours',
    params: { from: 'P-107', to: 'P-112', hours: '12' },
  })
  const rows = await paged(run.id, 2)
  expect(rows).toEqual(await streamed(run.id))
  expect(rows.map(({ step, kind, mapping }) => [step, kind, mapping])).toEqual([
    [4, 'change', 'programme'],
    [5, 'change', 'programme'],
    [6, 'add', 'hoursTransfer'],
  ])
  for (const { step, key, before, after } of rows) {
    const [shown] = run.steps.find(({ no }) => no === step)?.rows ?? []
    expect(key).toEqual(shown?.key)
    expect({ before, after }).toEqual({
      before: shown?.before && { ...shown.before, ...shown.alsoChanged?.before },
      after: shown?.after && { ...shown.after, ...shown.alsoChanged?.after },
    })
  }
  const { receipt } = await target().change(
    'programme',
    ['P-107'],
    { contactEmail: 'new@harrowfell.example' },
    { mode: 'commit', guard: '*' },
  )
  const [changed] = await paged(receipt.id, 50)
  expect(changed).toMatchObject({ step: 1, kind: 'change', key: { code: 'P-107' } })
  expect(Object.keys(changed?.after ?? {}).sort()).toEqual(['contactEmail', 'rowVersion', 'updatedAt'])
  expect((await inForm(receipt.id, 'text/csv')).text).not.toContain('harrowfell.example')
  const removed = await target().remove('hoursTransfer', [String(rows[2]?.key['id'])], { mode: 'commit', guard: '*' })
  expect(await paged(removed.receipt.id, 50)).toEqual([
    { step: 1, kind: 'remove', mapping: 'hoursTransfer', key: rows[2]?.key, before: rows[2]?.after, after: null },
  ])
})

it('are none of a refusal; what there is not, and what has no pages, is told', async () => {
  const refused = await target()
    .change('programme', ['P-107'], { hoursLeft: '9999' }, { mode: 'commit', guard: '*' })
    .catch((error: { receipt: { id: string } }) => error.receipt)
  const { id } = refused as { id: string }
  expect((await service.request('GET', rowsPath(id))).body).toEqual({ rows: [], next: null })
  expect((await service.request('GET', rowsPath('nonsense'))).status).toBe(404)
  expect((await service.request('GET', rowsPath('01890000-0000-7000-8000-000000000000'))).status).toBe(404)
  for (const query of ['?after=x', '?after=-1', '?limit=0', '?limit=1001', '?step=1'])
    expect([query, (await service.request('GET', rowsPath(id) + query)).status]).toEqual([query, 400])
  const csv = { headers: { accept: 'text/csv' } }
  expect((await service.request('GET', `${rowsPath(id)}?limit=5`, csv)).body).toMatchObject({ where: 'limit' })
  expect((await inForm(id, 'text/html')).status).toBe(415)
})
