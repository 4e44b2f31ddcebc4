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

  it('gives one object for a record that is asked for twice at the same time, and none where there is no such record', async () => {
    const desk = draft()
    const [one, other] = await Promise.all([1, 2].map(() => desk.load('programme', { code: 'P-114' })))
    expect(one).toBe(other)
    await expect(desk.load('programme', { code: 'P-999' })).rejects.toMatchObject({ code: 'no-such-record' })
    await expect(desk.load('programme', { title: 'x' })).rejects.toMatchObject({ facts: { key: ['code'] } })
    await expect(desk.load('programm' as 'programme', { code: 'P-114' })).rejects.toMatchObject({
      code: 'not-found',
      detail: expect.stringContaining('programme') as string,
    })
  })

  it('keeps pending what is assigned while a commit is on its way', async () => {
    const desk = draft()
    const programme = await desk.load('programme', { code: 'P-115' })
    programme.title = 'Sent'
    programme.settings.readout = 'fast'
    const committing = desk.commit()
    await expect(desk.commit()).rejects.toMatchObject({ code: 'request-invalid' })
    programme.hoursLeft = '0.25'
    programme.title = 'Assigned since'
    await committing
    expect(desk.pending()).toMatchObject([
      { before: { hoursLeft: expect.any(String) as string, title: 'Sent' }, after: { title: 'Assigned since' } },
    ])
    await desk.commit()
    expect(await sql(`select title, hours_left::text, row_version from programme where code = 'P-115'`)).toEqual([
      { title: 'Assigned since', hours_left: '0.25', row_version: 3 },
    ])
    expect(programme).toMatchObject({ rowVersion: 3, title: 'Assigned since', hoursLeft: '0.25' })
  })

  it('applies again what was pending before, and what is added, when it is tried again', async () => {
    const desk = draft()
    const programme = await desk.load('programme', { code: 'P-116' })
    programme.title = 'Before'
    const dome = desk.add('telescope', { code: 'RT1', name: 'Kept dome', apertureM: '0.40' })
    await sql(`update programme set priority = 5, row_version = row_version + 1 where code = 'P-116'`)
    const receipt = await desk.retry(() => {
      programme.hoursLeft = '1.50'
      desk.add('telescope', { code: 'RT2', name: 'Added each time', apertureM: '0.50' })
    })
    expect(receipt.steps.map(({ kind, changed }) => [kind, changed])).toEqual([
      ['change', 1],
      ['add', 1],
      ['add', 1],
    ])
    expect(await sql(`select title, hours_left::text, priority from programme where code = 'P-116'`)).toEqual([
      { title: 'Before', hours_left: '1.50', priority: 5 },
    ])
    desk.remove(dome)
    await desk.commit()
    expect(await sql(`select code from telescope where code like 'RT%'`)).toEqual([{ code: 'RT2' }])
    programme.title = 'Mine'
    await sql(`update programme set title = 'Theirs', row_version = row_version + 1 where code = 'P-116'`)
    const overwriting = desk.retry(() => void (programme.hoursLeft = '2.50'))
    await expect(overwriting).rejects.toMatchObject({ code: 'record-changed', facts: { current: { title: 'Theirs' } } })
    let tries = 0
    const racing = desk.retry(async () => {
      tries++
      await sql(`update programme set row_version = row_version + 1 where code = 'P-116'`)
      programme.title = `Try ${tries}`
    }, 3)
    await expect(racing).rejects.toMatchObject({ code: 'record-changed' })
    expect([tries, programme.title]).toEqual([3, 'Try 3'])
  })

  it.each([
    ['undefined', undefined, /title: .*got undefined\. Assign null/],
    ['a map', new Map([['a', 1]]), /title: .*got Map/],
    ['bytes', new Uint8Array(2), /title: .*got Uint8Array/],
    ['a function', () => 1, /title: .*got function/],
  ])('refuses %s before anything is lost', async (_, value, message) => {
    const desk = draft()
    const programme = await desk.load('programme', { code: 'P-117' })
    ;(programme as { title: unknown }).title = value
    const problem: unknown = await desk.commit().catch((error: unknown) => error)
    if (!isProblem(problem, 'value-invalid')) throw problem
    expect(problem.detail).toMatch(message)
  })

  it('says what is wrong with a value, and takes any text for a text', async () => {
    const desk = draft()
    const programme = await desk.load('programme', { code: 'P-117' })
    ;(programme as { title: unknown }).title = 5
    await expect(desk.commit()).rejects.toMatchObject({
      code: 'definition-invalid',
      detail: 'The steps do not fit. steps.1.values.title: expected a string, got 5 (number)',
    })
    programme.title = ":code, it's {giver.code}"
    await desk.commit()
    programme.title = ':again'
    programme.tags = [':tag', "it's"]
    await desk.commit()
    expect(await sql(`select title, tags from programme where code = 'P-117'`)).toEqual([
      { title: ':again', tags: [':tag', "it's"] },
    ])
  })

  it('takes dates, bigint and members that are undefined as JSON does', async () => {
    const desk = draft()
    const programme = await desk.load('programme', { code: 'P-118' })
    const when = new Date('2026-02-03T04:05:06Z')
    Object.assign(programme.settings, { when, big: 9007199254740993n, none: undefined, list: [1.5, null] })
    await desk.commit()
    const [row] = await sql(`select settings ->> 'when' as "when", settings ->> 'big' as big, settings ? 'none' as has,
      settings -> 'list' as list from programme where code = 'P-118'`)
    expect(row).toEqual({ when: when.toJSON(), big: '9007199254740993', has: false, list: [1.5, null] })
    delete (programme as Partial<Programme>).title
    expect(() => desk.pending()).toThrow(/title was deleted/)
  })

  it('sent again with its key takes effect once, whatever it did', async () => {
    const once = async () => {
      const desk = draft()
      const [programme, dome] = [
        await desk.load('programme', { code: 'P-119' }),
        await desk.load('telescope', { code: 'RT2' }),
      ]
      programme.title = 'Once'
      const added = desk.add('telescope', { code: 'RT3', name: 'Once', apertureM: '0.60' })
      desk.remove(dome)
      return { desk, programme, dome, added }
    }
    const [first, second] = [await once(), await once()]
    await first.desk.commit({ idempotencyKey: 'draft-1' })
    const again = await second.desk.commit({ idempotencyKey: 'draft-1' })
    expect(again.replayed).toBe(true)
    expect(second.desk.pending()).toEqual([])
    expect([second.programme.rowVersion, second.programme.title, second.added['status']]).toEqual([
      2,
      'Once',
      'operational',
    ])
    expect(await sql(`select code from telescope where code like 'RT%'`)).toEqual([{ code: 'RT3' }])
    expect(() => second.desk.remove(second.dome)).toThrow(/no record of the draft/)
  })

  it('can be typed by what its mappings say', async () => {
    const target = service.client.target('observatory')
    const text = typesOfMappings([await target.mapping('block'), await target.mapping('programme')])
    expect(text).toMatch(/state: "planned" \| "observing" \| "done" \| "failed"/)
    expect(text).toMatch(/readonly code: string[\s\S]*tags: \(string \| null\)\[\]\n[\s\S]*readonly rowVersion: number/)
    // Names that meet, and one that is no identifier.
    const telescope = await target.mapping('telescope')
    const odd = typesOfMappings(['records', 'dome', 'Dome', 'm²'].map((name) => ({ ...telescope, name })))
    expect(odd.match(/interface \S+/g)).toEqual([
      'interface Records2',
      'interface Dome',
      'interface Dome2',
      'interface M_',
    ])
    expect(odd).toContain('  "m²": ')
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
