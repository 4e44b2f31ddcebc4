import { isProblem, type HistoryEvent, type Job } from '@ledgerman/contract'
import { startTestService, type RunningService } from '../../../../testing/running-service.js'

interface ExportedRow {
  entry: string
  key: Record<string, string>
  before: Record<string, string> | null
  after: Record<string, string> | null
}

// What was done is looked back at, and put back: through every kind of entry, and only where nobody came in between.
let service: RunningService
const T = '/v1/targets/observatory'
const sql = (text: string) => service.observatory.sql(text)
const json = { 'content-type': 'application/json' }
const target = () => service.client.target('observatory')
const get = async (path: string) => (await service.request('GET', `${T}/mappings/${path}`)).body
const reverse = (entry: string, body: object = { mode: 'commit' }) =>
  service.request('POST', `${T}/entries/${entry}/reversal`, { body, headers: json })
const reverseSince = (body: object) => service.request('POST', `${T}/reversals`, { body, headers: json })

async function job(body: object): Promise<Job> {
  const begun = await service.request('POST', `${T}/jobs`, {
    body: { mode: 'commit', expect: 'any', ...body },
    headers: json,
  })
  let last: Job | undefined
  for await (const now of service.client.followJob(begun.body.id as string)) last = now
  expect(last?.problem).toBeNull()
  return last as Job
}

/** Everything in the tables, versions and what a trigger writes apart. */
async function everything(): Promise<unknown> {
  const [row] = await sql(`select md5(string_agg(r, '|' order by r)) as sum from (
    select (to_jsonb(p) - 'row_version' - 'updated_at')::text as r from programme p union all select to_jsonb(c)::text from calibration c
    union all select to_jsonb(h)::text from hours_transfer h union all select (to_jsonb(t) - 'row_version')::text from telescope t) x`)
  return row?.['sum']
}

/** One of each kind of entry. */
async function doAll(): Promise<void> {
  const commit = { mode: 'commit' as const }
  await target().change('programme', ['P-107'], { hoursLeft: '14.50', tags: ['a', "it's"] }, { ...commit, guard: '*' })
  await target().run({ ...commit, transaction: 'move-hours', params: { from: 'P-112', to: 'P-107', hours: '12' } })
  await target().remove('calibration', ['HF1', '2026-02-03', 'flat'], { ...commit, guard: '*' })
  await job({ mapping: 'calibration', where: "kind = 'flat'", compute: { frames: 'frames + 1' } })
  await target().add('calibration', { telescope: 'HF1', night: '2027-01-01', kind: 'dark', frames: 3 })
  await job({ mapping: 'calibration', where: 'frames > 20', remove: true, images: 'full' })
  await target().add('telescope', { code: 'HF9', name: 'Nine', apertureM: '1.50' })
  await target().change('telescope', ['HF9'], { name: 'Ninth' }, { ...commit, guard: '*' })
}

beforeAll(async () => {
  service = await startTestService()
})
afterAll(() => service.stop())

describe('what was done', () => {
  it('is put back as a whole, the newest first, and can be put back in turn', async () => {
    const before = await everything()
    const since = new Date().toISOString()
    await doAll()
    const after = await everything()
    expect(after).not.toBe(before)
    const rehearsed = await reverseSince({ mode: 'rehearse', since })
    expect([rehearsed.status, rehearsed.body.outcome, rehearsed.body.reverses.length]).toEqual([200, 'rehearsed', 8])
    expect(await everything()).toBe(after)
    const reversed = await reverseSince({ mode: 'commit', since })
    expect([reversed.status, reversed.body.outcome]).toEqual([201, 'committed'])
    const { entries: newest } = await target().entries({ limit: 1 })
    expect(newest).toMatchObject([{ id: reversed.body.id, kind: 'reversal', condition: '8 entries' }])
    expect(await everything()).toBe(before)
    expect(await sql(`select count(*)::int as n from telescope where code = 'HF9'`)).toEqual([{ n: 0 }])
  })

  it('is put back only where it is as the entry left it, unless the rest is asked for', async () => {
    const { entries } = await job({
      mapping: 'calibration',
      where: "telescope = 'HF2'",
      compute: { frames: 'frames + 100' },
    })
    const [entry = ''] = entries
    const { n } = (await sql(`select count(*)::int as n from calibration where frames >= 100`))[0] as { n: number }
    await sql(`update calibration set frames = 7 where telescope = 'HF2' and night = '2026-02-03' and kind = 'bias';
      delete from calibration where telescope = 'HF2' and night = '2026-02-03' and kind = 'dark'`)
    const refused = await reverse(entry)
    expect([refused.status, refused.body.code, refused.body.count]).toEqual([409, 'reversal-conflict', 2])
    expect(refused.body.rows).toEqual([
      {
        key: { telescope: 'HF2', night: '2026-02-03', kind: 'bias' },
        left: { frames: expect.any(Number) },
        now: { frames: 7 },
      },
      { key: { telescope: 'HF2', night: '2026-02-03', kind: 'dark' }, left: { frames: expect.any(Number) }, now: null },
    ])
    expect(await sql(`select count(*)::int as n from calibration where frames >= 100`)).toEqual([{ n: n - 2 }])
    const rehearsed = await reverse(entry, { mode: 'rehearse', onlyUnchanged: true })
    const rest = await reverse(entry, { mode: 'commit', onlyUnchanged: true, rehearsal: rehearsed.body.rehearsal })
    expect([rest.status, rest.body.steps[0].changed, rest.body.leftAsIs.length]).toEqual([201, n - 2, 2])
    expect(await sql(`select count(*)::int as n from calibration where frames >= 100`)).toEqual([{ n: 0 }])
    const shown = await target().entry(entry)
    expect(shown.reversedBy).toEqual([rest.body.id])
    expect((await target().entry(rest.body.id as string)).receipt.reverses).toEqual([entry])
    // A reversal is an entry like any other.
    expect((await reverse(entry)).body.code).toBe('reversal-conflict')
    expect((await reverse(rest.body.id as string)).status).toBe(201)
    expect(await sql(`select count(*)::int as n from calibration where frames >= 100`)).toEqual([{ n: n - 2 }])
  })

  it('is said not to be reversible, by name, where the book does not have what it would need', async () => {
    const { entries } = await job({
      mapping: 'calibration',
      where: "telescope = 'FELL'",
      compute: { frames: 'frames + 1' },
      images: 'none',
    })
    const none = await reverse(entries[0] ?? '')
    expect([none.status, none.body.code, none.body.lost]).toEqual([
      409,
      'not-reversible',
      ['step 1, change calibration: it was done without images'],
    ])
    const raw = await target().run({
      mode: 'commit',
      steps: [{ sql: "update telescope set name = name || '!' where code = 'HF2'", changes: true, expect: 1 }],
    })
    expect((await reverse(raw.id)).body.code).toBe('not-reversible')
    const nowhere = '01a2177f-0000-7000-8000-000000000000'
    for (const id of [nowhere, 'nothing']) expect((await reverse(id)).body.code).toBe('not-found')
    expect((await reverseSince({ mode: 'rehearse', since: nowhere })).body.code).toBe('not-found')
    for (const since of ['yesterday', '2026-02-03T06:00:00', '2026-02-03'])
      expect((await reverseSince({ mode: 'rehearse', since })).body.code).toBe('request-invalid')
  })

  it('leaves what others changed of the same record, and what the book has only digests of', async () => {
    const values = { priority: 5, contactEmail: 'x@harrowfell.example' }
    const { receipt } = await target().change('programme', ['P-125'], values, { mode: 'commit', guard: '*' })
    await target().change('programme', ['P-125'], { title: 'Others' }, { mode: 'commit', guard: '*' })
    const { status, body } = await reverse(receipt.id)
    expect([status, body.notShown]).toEqual([
      201,
      ['Not put back: programme: contactEmail stays as it is, since the book has only digests of it.'],
    ])
    expect(await sql(`select title, priority, contact_email from programme where code = 'P-125'`)).toEqual([
      { title: 'Others', priority: 1, contact_email: 'x@harrowfell.example' },
    ])
  })

  it('is held to the rules of its mapping, whatever they compare with', async () => {
    await sql(`create table focus (id integer primary key, steps integer, note text); insert into focus select n, n, 'x' from generate_series(1, 4) n;
      grant all on focus to ledgerman_worker`)
    await target().publishMapping(
      'focus',
      `mapping: focus
table: public.focus
key: [id]
guard: { by: rowStamp }
properties: { id: { column: id }, steps: { column: steps }, note: { column: note } }
rules: [{ that: 'steps > 0 and steps < 100', otherwise: Out of focus. }]`,
    )
    const rows = () => sql('select * from focus order by id')
    const before = await rows()
    const [first] = (await target().entries({ limit: 1 })).entries
    await target().change('focus', ['1'], { note: 'changed' }, { mode: 'commit', guard: '*' })
    await target().remove('focus', ['2'], { mode: 'commit', guard: '*' })
    await job({ mapping: 'focus', where: 'id > 2', values: { note: null }, images: 'full' })
    await job({ mapping: 'focus', where: 'id > 2', compute: { steps: 'steps + 1' } })
    const since = { mode: 'commit', since: new Date(new Date(first?.at ?? '').getTime() + 1).toISOString() }
    expect((await reverseSince(since)).status).toBe(201)
    expect(await rows()).toEqual(before)
  })

  it('is put back once, whoever asks at the same time', async () => {
    const { receipt } = await target().change('programme', ['P-120'], { priority: 5 }, { mode: 'commit', guard: '*' })
    const answers = await Promise.all(Array.from({ length: 8 }, () => reverse(receipt.id)))
    expect(answers.map(({ status }) => status).sort()).toEqual([201, ...Array.from({ length: 7 }, () => 409)])
  })
})

describe('the rows of every entry', () => {
  it('are the same in an export, in the view for SQL, and in the table before and after', async () => {
    const rows = async (text: string) => (await sql(text)) as { code: string; n: number }[]
    const was = await rows(`select night || telescope || kind as code, frames as n from calibration order by 1`)
    const { entries } = await job({ mapping: 'calibration', compute: { frames: 'frames + 1' }, everyRow: true })
    let lines = ''
    for await (const part of target().book.export({ outcome: 'committed' }, 'ndjson')) lines += part
    const exported = lines
      .trim()
      .split('\n')
      .map((line) => JSON.parse(line) as ExportedRow)
    const own = exported.filter(({ entry }) => entry === entries[0])
    const codeOf = ({ night, telescope, kind }: Record<string, string>) => `${night}${telescope}${kind}`
    const sorted = (found: { code: string; n: number }[]) =>
      found.sort((one, other) => (one.code < other.code ? -1 : 1))
    const side = (name: 'before' | 'after') =>
      sorted(own.map((line) => ({ code: codeOf(line.key), n: Number(line[name]?.['frames']) })))
    expect(side('before')).toEqual(sorted(was))
    expect(side('after')).toEqual(sorted(was.map(({ code, n }) => ({ code, n: n + 1 }))))
    const seen = await sql(
      `select id as entry, key, before, after from ledgerman.history where outcome = 'committed' and key is not null`,
    )
    const text = (lines: object[]) => lines.map((line) => JSON.stringify(line)).sort()
    const written = exported.filter(({ key }) => key !== null)
    expect(text(written.map(({ entry, key, before, after }) => ({ entry, key, before, after })))).toEqual(text(seen))
  })
})

describe('a day of single changes', () => {
  it('is put back by a job, each record as it was in the morning', async () => {
    const before = await everything()
    const since = new Date().toISOString()
    const records = Array.from({ length: 20 }, (_, at) => [`P-1${String(at + 1).padStart(2, '0')}`])
    for (let round = 0; round < 25; round++)
      await Promise.all(
        records.map((key) =>
          target().change('programme', key, { title: `Round ${round}` }, { mode: 'commit', guard: '*' }),
        ),
      )
    const begun = await reverseSince({ mode: 'commit', since })
    expect([begun.status, begun.body.kind, begun.body.condition]).toEqual([202, 'reversal', '500 entries'])
    let last: Job | undefined
    for await (const now of service.client.followJob(begun.body.id as string)) last = now
    expect(last).toMatchObject({ state: 'done', problem: null, report: { matched: 500, changed: 500 } })
    expect(await everything()).toBe(before)
    // Each image is found by its own record: none stands where all other records are looked for too.
    expect(await sql('select count(*)::int as n from ledgerman.image_block where bits < 6')).toEqual([{ n: 0 }])
    const { history } = await target().history('programme', ['P-101'], { property: 'title', limit: 500 })
    expect(history.filter(({ kind }) => kind === 'reversed')).toHaveLength(25)
  })
})

describe('under load', () => {
  it('16 callers change the rows that are put back, and the book tells all of it', async () => {
    const records = ['P-131', 'P-132', 'P-133']
    const since = new Date().toISOString()
    let isOver = false
    const callers = Array.from({ length: 16 }, async (_, at) => {
      const key = [records[at % records.length] ?? '']
      while (!isOver) {
        await target()
          .load('programme', key)
          .then(({ record, guard }) => {
            const values = { priority: 1 + (Number(record['priority']) % 5) }
            return target().change('programme', key, values, { guard: guard ?? '' })
          })
          .catch((error: unknown) => {
            if (!isProblem(error)) throw error
          })
      }
    })
    const outcomes = new Map<string, number>()
    // Which of them meets a caller is chance: it goes on until one of them went through.
    for (let round = 0; round < 6 || (!outcomes.has('committed') && round < 300); round++) {
      const outcome = await target()
        .entries({ outcome: 'committed', from: since, limit: 1 })
        .then(({ entries }) => target().reverse(entries[0]?.id ?? '', { mode: 'commit' }))
        .then(
          () => 'committed',
          (error: unknown) => (isProblem(error) ? error.code : String(error)),
        )
      outcomes.set(outcome, (outcomes.get(outcome) ?? 0) + 1)
    }
    isOver = true
    await Promise.all(callers)
    // A machine that stands still for a second leaves no session free.
    const passable = ['committed', 'reversal-conflict', 'not-found', 'too-many-requests']
    expect([...outcomes.keys()].filter((code) => !passable.includes(code))).toEqual([])
    expect(outcomes.get('committed')).toBeGreaterThan(0)
    for (const code of records) {
      const { record } = await target().load('programme', [code])
      const { history } = await target().history('programme', [code], { property: 'priority', limit: 500 })
      expect(history[0]?.changes[0]?.after).toBe(record['priority'])
      expect(history.filter(({ kind }) => kind === 'outside')).toEqual([])
    }
    expect(await target().book.verify()).toMatchObject({ ok: true })
  })
})

describe('a record', () => {
  it('tells what became of it, whoever did it, and what nobody wrote down', async () => {
    await target().change('programme', ['P-130'], { priority: 5 }, { mode: 'commit', guard: '*', note: 'urgent' })
    const between = new Date().toISOString()
    await job({ mapping: 'programme', where: "code in ('P-130', 'P-131')", compute: { title: "title || '!'" } })
    await sql(`update programme set priority = 1, row_version = row_version + 1 where code = 'P-130'`)
    await target().change('programme', ['P-130'], { semester: '2027A' }, { mode: 'commit', guard: '*' })
    const { history } = (await get('programme/records/P-130/history')) as { history: HistoryEvent[] }
    expect(history.map(({ kind, actor, note }) => [kind, actor, note])).toEqual([
      ['changed', 'admin', null],
      ['outside', null, null],
      ['changed', 'admin', null],
      ['changed', 'admin', 'urgent'],
    ])
    const changed = (event?: HistoryEvent) =>
      event?.changes.map(({ property }) => property).filter((name) => !/^(rowVersion|updatedAt)$/.test(name))
    expect(history.map(changed)).toEqual([['semester'], ['priority'], ['title'], ['priority']])
    const { history: only, next } = (await get('programme/records/P-130/history?property=priority&limit=1')) as {
      history: HistoryEvent[]
      next: string
    }
    expect(only.map(({ kind, changes }) => [kind, changes])).toEqual([
      ['outside', [{ property: 'priority', before: 5, after: 1 }]],
    ])
    const rest = (await get(`programme/records/P-130/history?property=priority&after=${next}`)) as {
      history: HistoryEvent[]
    }
    expect(rest.history.map(({ kind }) => kind)).toEqual(['changed'])

    const was = await get(`programme/records/P-130?as-of=${between}`)
    expect(was).toMatchObject({
      record: { priority: 5, semester: '2026A' },
      sure: false,
      because: expect.stringMatching(/outside the book: priority/),
    })
    expect(was.record.title).not.toMatch(/!$/)
  })

  it('is shown as it was after it was removed, and before it was there', async () => {
    const start = new Date().toISOString()
    await target().add('telescope', { code: 'HF7', name: 'Seven', apertureM: '0.50' })
    const added = new Date().toISOString()
    await target().remove('telescope', ['HF7'], { mode: 'commit', guard: '*' })
    expect(await get(`telescope/records/HF7?as-of=${start}`)).toEqual({
      record: null,
      asOf: start,
      sure: true,
      because: null,
    })
    expect(await get(`telescope/records/HF7?as-of=${added}`)).toMatchObject({
      record: { code: 'HF7', name: 'Seven', apertureM: '0.50' },
      sure: true,
    })
    const { history } = (await get('telescope/records/HF7/history')) as { history: HistoryEvent[] }
    expect(history.map(({ kind }) => kind)).toEqual(['removed', 'added'])
    expect((await service.request('GET', `${T}/mappings/telescope/records/HF8/history`)).status).toBe(404)
    expect(
      (await service.request('GET', `${T}/mappings/telescope/records/HF7?as-of=${added}&explain=true`)).status,
    ).toBe(400)
  })

  it('is put back by a job where it is many rows, once, and exactly as a rehearsal saw it', async () => {
    await sql(
      `insert into calibration (telescope, night, kind, frames) select 'HF1', date '2100-01-01' + i, 'dark', i % 90 from generate_series(1, 50100) i`,
    )
    const before = await everything()
    const { entries } = await job({
      mapping: 'calibration',
      where: "night > '2100-01-01'",
      compute: { frames: 'frames + 1' },
    })
    const ended = async (reply: { status: number; body: Job }) => {
      expect(reply.status).toBe(202)
      let last: Job = reply.body
      for await (const now of service.client.followJob(last.id)) last = now
      return last
    }
    const rehearsed = await ended(await reverse(entries[0] ?? '', { mode: 'rehearse', onlyUnchanged: true }))
    expect(rehearsed).toMatchObject({
      kind: 'reversal',
      state: 'done',
      report: { matched: 50100, changed: 50100 },
      entries: [],
    })
    await sql(`update calibration set frames = 5 where night = '2101-01-01'`)
    const stale = await ended(
      await reverse(entries[0] ?? '', { mode: 'commit', rehearsal: rehearsed.rehearsal, onlyUnchanged: true }),
    )
    expect(stale.problem?.code).toBe('rehearsal-stale')
    const conflict = await ended(await reverse(entries[0] ?? ''))
    expect(conflict.problem).toMatchObject({ code: 'reversal-conflict', count: 1 })
    const rest = await ended(await reverse(entries[0] ?? '', { mode: 'commit', onlyUnchanged: true }))
    expect(rest).toMatchObject({ state: 'done', report: { changed: 50099 } })
    expect((await target().entry(rest.entries[0] ?? '')).receipt.reverses).toEqual(entries)
    await sql(
      `update calibration set frames = extract(doy from night)::int * 0 + (date '2101-01-01' - date '2100-01-01') % 90 where night = '2101-01-01'`,
    )
    expect(await everything()).toBe(before)
    await sql(`delete from calibration where night > '2100-01-01'`)
  })
})
