import { spawn } from 'node:child_process'
import { once } from 'node:events'
import { join } from 'node:path'
import { isProblem, RawJson } from '@ledgerman/contract'
import { typesOfMappings } from '@ledgerman/client'
import { startTestService, type RunningService } from '../../../../testing/running-service.js'

interface Programme {
  code: string
  title: string
  hoursLeft: string
  tags: string[]
  settings: { binning: number; readout: string; deep?: { list: unknown[] } }
  contactEmail: string | null
  rowVersion: number
}
type Records = {
  programme: Programme
  observer: { badgeNo: string; active: boolean; familyName: string }
  telescope: Record<string, unknown>
}

let service: RunningService
const draft = () => service.client.draft<Records>('observatory')
const sql = (text: string) => service.observatory.sql(text)

beforeAll(async () => {
  service = await startTestService()
})
afterAll(() => service.stop())

describe('a draft', () => {
  it('sends plain assignments, nested ones too, as one commit, and its objects are as they are then', async () => {
    const desk = draft()
    const programme = await desk.load('programme', { code: 'P-107' })
    expect(await desk.load('programme', { code: 'P-107' })).toBe(programme)
    const observer = await desk.load('observer', { badgeNo: 'B-002' })
    expect(desk.pending()).toEqual([])
    programme.settings.deep = { list: [1, new RawJson('12345678901234567890.10')] }
    programme.hoursLeft = '14.50'
    programme.contactEmail = 'desk@harrowfell.example'
    observer.active = false
    const added = desk.add('telescope', { code: 'NEW', name: 'New dome', apertureM: '0.40' })
    expect(desk.pending().map(({ kind, key, after }) => [kind, key, Object.keys(after ?? {})])).toEqual([
      ['change', { code: 'P-107' }, ['hoursLeft', 'contactEmail', 'settings']],
      ['change', { badgeNo: 'B-002' }, ['active']],
      ['add', null, ['code', 'name', 'apertureM']],
    ])
    const rehearsed = await desk.rehearse()
    expect(await sql(`select active from observer where badge_no = 'B-002'`)).toEqual([{ active: true }])
    const receipt = await desk.commit({ rehearsal: rehearsed.rehearsal ?? '' })
    expect(receipt).toMatchObject({ outcome: 'committed', steps: [{ changed: 1 }, { changed: 1 }, { changed: 1 }] })
    expect(desk.pending()).toEqual([])
    expect([programme.rowVersion, programme.contactEmail, added['status']]).toEqual([
      2,
      'desk@harrowfell.example',
      'operational',
    ])
    const [row] = await sql(
      `select settings #>> '{deep,list,1}' as number, contact_email from programme where code = 'P-107'`,
    )
    expect(row).toEqual({ number: '12345678901234567890.10', contact_email: 'desk@harrowfell.example' })
    programme.title = 'Again'
    desk.remove(added)
    expect((await desk.commit()).steps).toHaveLength(2)
    expect(await sql(`select count(*)::int as n from telescope where code = 'NEW'`)).toEqual([{ n: 0 }])
  })

  it('shows all three sides where somebody was faster, and applies itself again when told how', async () => {
    const desk = draft()
    const programme = await desk.load('programme', { code: 'P-110' })
    const observer = await desk.load('observer', { badgeNo: 'B-003' })
    await sql(`update programme set hours_left = 3, row_version = row_version + 1 where code = 'P-110'`)
    programme.hoursLeft = '5.00'
    observer.active = false
    const problem = await desk.commit().catch((error: unknown) => error)
    if (!isProblem(problem, 'record-changed')) throw problem
    expect(problem.facts).toMatchObject({
      yours: { hoursLeft: '5.00' },
      current: { hoursLeft: '3.00' },
      loaded: { hoursLeft: expect.any(String) as string },
    })
    expect(await sql(`select active from observer where badge_no = 'B-003'`)).toEqual([{ active: true }])
    let tries = 0
    await desk.retry(() => {
      tries++
      programme.hoursLeft = (Number(programme.hoursLeft) + 1).toFixed(2)
      observer.active = false
    })
    expect([tries, programme.hoursLeft]).toEqual([2, '4.00'])
    programme.title = 'never sent'
    desk.forget(programme)
    await expect(desk.commit()).rejects.toMatchObject({ code: 'request-invalid' })
  })

  it('is told from the book who was faster, and whether they are in the way', async () => {
    const [mine, theirs] = [draft(), draft()]
    const [here, there] = [
      await mine.load('programme', { code: 'P-111' }),
      await theirs.load('programme', { code: 'P-111' }),
    ]
    there.title = 'Theirs'
    await theirs.commit()
    here.hoursLeft = '0.50'
    await expect(mine.commit()).rejects.toMatchObject({
      code: 'record-changed',
      facts: { step: 1, overlap: [], theirs: ['title'], by: { title: { actor: 'admin' } } },
    })
  })

  it('can be typed by what its mappings say', async () => {
    const target = service.client.target('observatory')
    const text = typesOfMappings([await target.mapping('block'), await target.mapping('programme')])
    expect(text).toMatch(/state: "planned" \| "observing" \| "done" \| "failed"/)
    expect(text).toMatch(/readonly rowVersion: number[\s\S]*tags: \(string \| null\)\[\]/)
  })
})

describe('the example of a night desk', () => {
  it('changes, hands over and transfers through Ledgerman', async () => {
    const file = join(import.meta.dirname, '../../../../examples/night-desk/server.mjs')
    const env = {
      ...process.env,
      NODE_OPTIONS: '',
      PORT: '0',
      LEDGERMAN_URL: service.url,
      LEDGERMAN_TOKEN: service.token,
    }
    const desk = spawn(process.execPath, [file], { env, stdio: ['ignore', 'pipe', 'inherit'] })
    try {
      const [line] = (await once(desk.stdout, 'data')) as [Buffer]
      const port = /on (\d+)/.exec(line.toString())?.[1]
      const post = async (path: string, body: object, headers: Record<string, string> = {}) => {
        const init = {
          method: 'POST',
          headers: { 'content-type': 'application/json', ...headers },
          body: JSON.stringify(body),
        }
        const answer = await fetch(`http://127.0.0.1:${port}${path}`, init)
        return { status: answer.status, body: (await answer.json()) as Record<string, unknown> }
      }
      const tagged = await Promise.all(['dark', 'grey', 'bright'].map((tag) => post('/programmes/P-120/tags', { tag })))
      expect(tagged.map(({ status }) => status)).toEqual([200, 200, 200])
      const [{ tags }] = (await sql(`select tags from programme where code = 'P-120'`)) as [{ tags: string[] }]
      expect(tags).toEqual(expect.arrayContaining(['dark', 'grey', 'bright']))
      expect((await post('/blocks/5/hand-over', { badgeNo: 'B-004' })).body).toMatchObject({ outcome: 'committed' })
      const transfer = { from: 'P-112', to: 'P-113', hours: '2' }
      expect((await post('/transfers', transfer, { 'idempotency-key': 'desk-1' })).status).toBe(201)
      expect(await post('/transfers', transfer, { 'idempotency-key': 'desk-1' })).toMatchObject({
        status: 200,
        body: { replayed: true },
      })
      expect(await post('/transfers', { ...transfer, hours: '4000' })).toMatchObject({
        status: 422,
        body: { code: 'rule-broken' },
      })
    } finally {
      desk.kill()
    }
  })
})
