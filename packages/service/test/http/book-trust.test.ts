import { generateKeyPairSync } from 'node:crypto'
import type { EntryProof, Seal, SealFinding, Verification } from '@ledgerman/contract'
import { sealSigner, whyNotProven } from '@ledgerman/seal'
import { createPublicKey } from 'node:crypto'
import { moveClock } from '../../../../testing/move-clock.js'
import { startTestService, type RunningService } from '../../../../testing/running-service.js'

// A book is sealed, then altered behind Ledgerman's back in every way: each is found and named; and what is not altering is not taken for it.
let service: RunningService
const T = '/v1/targets/observatory'
const json = { 'content-type': 'application/json' }
const sql = (text: string, values?: unknown[]) => service.observatory.sql(text, values)
const target = () => service.client.target('observatory')
const seal = () => target().book.sealNow()
const verify = (input: { seal?: Seal } = {}) => target().book.verify(input)
const named = ({ findings }: Verification) => findings.map(({ entry, what }) => ({ entry, what }))

/** Alters the book, looks what verification says, and puts the book back as it was. */
async function findingsAfter(...statements: string[]): Promise<SealFinding[]> {
  const tables = ['entry', 'image', 'image_block', 'statement', 'leaf', 'seal']
  await sql(tables.map((name) => `create table kept_${name} as table ledgerman.${name}`).join(';'))
  try {
    for (const statement of statements) await sql(statement)
    const found = await verify()
    expect(found.ok).toBe(found.findings.length === 0)
    return found.findings
  } finally {
    await sql(
      tables
        .map(
          (name) =>
            `truncate ledgerman.${name}; insert into ledgerman.${name} table kept_${name}; drop table kept_${name}`,
        )
        .join(';'),
    )
  }
}

let ids: string[]
beforeAll(async () => {
  service = await startTestService()
  const commit = { mode: 'commit' as const, guard: '*' }
  for (const hours of ['14.50', '14.25', '14.00', '13.75'])
    await target().change('programme', ['P-107'], { hoursLeft: hours }, { ...commit, note: `to ${hours}` })
  await seal()
  await target().run({ mode: 'commit', transaction: 'move-hours', params: { from: 'P-112', to: 'P-107', hours: '12' } })
  await target()
    .change('programme', ['P-104'], { hoursLeft: '9999' }, commit)
    .catch(() => undefined)
  const job = await target().beginJob({
    mode: 'commit',
    mapping: 'calibration',
    where: "kind = 'flat'",
    compute: { frames: 'frames + 1' },
    expect: 'any',
  })
  for await (const _ of service.client.followJob(job.id));
  await seal()
  await target().change('programme', ['P-107'], { hoursLeft: '13.50' }, commit)
  await seal()
  ids = (await sql('select id from ledgerman.entry order by id')).map(({ id }) => id as string)
})
afterAll(() => service.stop())

describe('a book as it was sealed', () => {
  it('is found whole, by the last seal and by one that was kept outside', async () => {
    expect(await verify()).toMatchObject({ ok: true, entries: 8, unsealed: 0, pruned: 0, findings: [] })
    expect(await verify({ seal: await target().book.seal() })).toMatchObject({ ok: true })
    await target().change('programme', ['P-107'], { priority: 4 }, { mode: 'commit', guard: '*' })
    expect(await verify()).toMatchObject({ ok: true, entries: 8, unsealed: 1 })
    expect((await seal()).entries).toBe(9)
    // Nothing new: the last seal stands.
    expect(await seal()).toEqual(await target().book.seal())
  })

  it('is verified for who says nothing more, but does not take what it cannot read for nothing', async () => {
    const post = (init: object) => service.request('POST', `${T}/book/verification`, init)
    for (const init of [{}, { body: '' }, { body: '', headers: json }, { body: {}, headers: json }])
      expect(await post(init)).toMatchObject({ status: 200, body: { ok: true } })
    expect(
      await post({ body: 'seal=1', headers: { 'content-type': 'application/x-www-form-urlencoded' } }),
    ).toMatchObject({ status: 415, body: { code: 'media-type' } })
    // One that has to be told something, or may change something, has a body.
    const [pruning, programmes] = ['/book/pruning', '/mappings/programme/records']
    for (const path of [pruning, programmes]) expect((await service.request('POST', T + path)).status).toBe(415)
    const { paths } = (await service.request('GET', '/openapi.json', { token: '' })).body
    const isRequired = (path: string) => paths[`/v1/targets/{target}${path}`].post.requestBody.required
    expect(['/book/verification', '/book/pruning', '/mappings/{mapping}/records'].map(isRequired)).toEqual([
      false,
      true,
      true,
    ])
  })

  it('has what is committed late sealed late', async () => {
    const late = await service.observatory.session()
    await late.query('begin')
    await late.query(
      `insert into ledgerman.entry (id, actor, outcome) values ('${ids[0]?.slice(0, 14)}7000-8000-000000000001', 'slow', 'committed')`,
    )
    await target().change('programme', ['P-107'], { priority: 3 }, { mode: 'commit', guard: '*' })
    const before = await seal()
    await late.query('commit')
    await late.end()
    expect(await verify()).toMatchObject({ ok: true, unsealed: 1 })
    expect((await seal()).entries).toBe(before.entries + 1)
    expect(await verify()).toMatchObject({ ok: true, unsealed: 0 })
  })

  it('holds refusals by a service whose clock is behind that of the database', async () => {
    const restoreClock = moveClock(-60_000)
    try {
      const refused = target().change('programme', ['P-104'], { hoursLeft: '9999' }, { mode: 'commit', guard: '*' })
      await expect(refused).rejects.toMatchObject({ code: 'constraint-broken' })
    } finally {
      restoreClock()
    }
    expect(await verify()).toMatchObject({ ok: true, unsealed: 1, findings: [] })
    await seal()
    expect(await verify()).toMatchObject({ ok: true, unsealed: 0 })
  })

  it.each([
    ['a value', (id: string) => `update ledgerman.entry set after[1] = '0' where id = '${id}'`],
    ['an actor', (id: string) => `update ledgerman.entry set actor = 'nobody' where id = '${id}'`],
    ['a time', (id: string) => `update ledgerman.entry set at = at + interval '1 microsecond' where id = '${id}'`],
    ['a note', (id: string) => `update ledgerman.entry set note = null where id = '${id}'`],
  ])('shows that %s was altered', async (_, alter) => {
    expect(await findingsAfter(alter(ids[1] ?? ''))).toEqual([
      { entry: ids[1], what: 'altered', detail: expect.any(String) },
    ])
  })

  it('shows that images, a run, a statement were altered', async () => {
    const run = ids[4] ?? ''
    const found = async (...statements: string[]) =>
      (await findingsAfter(...statements)).map(({ entry, what }) => [what, entry])
    expect(
      await found(
        `update ledgerman.image set after[1] = '1' where entry = '${run}' and step = (select min(step) from ledgerman.image where entry = '${run}')`,
      ),
    ).toEqual([['altered', run]])
    expect(await found(`delete from ledgerman.image where ctid = (select min(ctid) from ledgerman.image)`)).toEqual([
      ['altered', run],
    ])
    expect(await found(`update ledgerman.image_block set before[1][1] = '1'`)).toEqual([['altered', ids[6]]])
    expect(await found(`update ledgerman.entry set run = run || '{"attempts": 7}' where id = '${run}'`)).toEqual([
      ['altered', run],
    ])
    const byStatement = await found(
      `update ledgerman.statement set touched = array_replace(touched, 'hours_left', 'hours_granted') where id = (select statement from ledgerman.entry where id = '${ids[0]}')`,
    )
    expect(byStatement).toContainEqual(['altered', ids[0]])
  })

  it('shows what was removed: the first, one between, the last', async () => {
    for (const id of [ids[0], ids[3], ids.at(-1)]) {
      expect(await findingsAfter(`delete from ledgerman.entry where id = '${id}'`)).toEqual([
        { entry: id, what: 'missing', detail: expect.any(String) },
      ])
      // With its place as well.
      const places = await findingsAfter(
        `delete from ledgerman.entry where id = '${id}'`,
        `delete from ledgerman.leaf where entry = '${id}'`,
      )
      expect(places.map(({ what }) => what)).toContain('missing')
    }
    const last = await findingsAfter(`delete from ledgerman.leaf where no = (select max(no) from ledgerman.leaf)`)
    expect(last).toContainEqual({
      entry: null,
      what: 'missing',
      detail: expect.stringMatching(/^The seal of .* is over \d+ entries; the book has places for/),
    })
  })

  it('shows what was put in, and does not seal it', async () => {
    const copy = (id: string) =>
      `insert into ledgerman.entry (id, at, actor, outcome, note) select ${id}, at - interval '5 seconds', 'forged', outcome, note from ledgerman.entry where id = '${ids[2]}' returning id`
    for (const id of ['gen_random_uuid()', `'${ids[2]?.slice(0, 18)}-8000-000000000000'`]) {
      const [row] = await sql(copy(id))
      const inserted = row?.['id'] as string
      await seal()
      expect(named(await verify())).toEqual([{ entry: inserted, what: 'inserted' }])
      await sql('delete from ledgerman.entry where id = $1', [inserted])
    }
    expect(await verify()).toMatchObject({ ok: true })
  })

  it('shows that two were swapped, and that a place was given another hash', async () => {
    const swapped = await findingsAfter(
      `update ledgerman.leaf l set entry = o.entry, hash = o.hash from ledgerman.leaf o
      where (l.entry = '${ids[1]}' and o.entry = '${ids[2]}') and false`,
      `create table s as select * from ledgerman.leaf where entry in ('${ids[1]}', '${ids[2]}')`,
      `delete from ledgerman.leaf where entry in ('${ids[1]}', '${ids[2]}')`,
      `insert into ledgerman.leaf select (select sum(no) from s) - no, entry, hash from s`,
      `drop table s`,
    )
    expect(swapped).toEqual([{ entry: ids[2], what: 'reordered', detail: expect.any(String) }])
    // Of the two who alter an entry and its hash, too, the root knows.
    const both = await findingsAfter(`update ledgerman.leaf set hash = sha256('x') where entry = '${ids[7]}'`)
    expect(both).toContainEqual({ entry: ids[7], what: 'altered', detail: expect.any(String) })
  })

  it('shows that a seal was altered, removed, or signed by another key', async () => {
    const [first] = await sql('select min(entries) as entries from ledgerman.seal')
    const altered = await findingsAfter(
      `update ledgerman.seal set at = at + interval '1 hour' where entries = ${String(first?.['entries'])}`,
    )
    expect(altered).toEqual([
      { entry: null, what: 'altered', detail: expect.stringMatching(/does not hold: its signature does not fit/) },
    ])
    const other = sealSigner(generateKeyPairSync('ed25519').privateKey)
    const made = await target().book.seal()
    const again = other.sign(made)
    const signed = await findingsAfter(
      `update ledgerman.seal set key = '${again.key}', signature = '${again.signature}' where entries = ${made.entries}`,
    )
    expect(signed).toEqual([
      { entry: null, what: 'altered', detail: expect.stringMatching(/it was signed with the key/) },
    ])
    const kept = await verify({ seal: again })
    expect(kept.findings).toEqual([
      { entry: null, what: 'altered', detail: expect.stringMatching(/The seal that was given does not hold/) },
    ])
    // All later entries, places and seals gone: nothing in the database says so, what was kept outside does.
    const tables = ['entry', 'leaf', 'seal']
    await sql(tables.map((name) => `create table kept_${name} as table ledgerman.${name}`).join(';'))
    await sql(
      `delete from ledgerman.entry where id > '${ids[3]}'; delete from ledgerman.leaf where no > 3; delete from ledgerman.seal where entries > 4`,
    )
    expect(await verify()).toMatchObject({ ok: true, entries: 4 })
    expect((await verify({ seal: made })).findings).toEqual([
      { entry: null, what: 'missing', detail: expect.stringMatching(/The seal that was given/) },
    ])
    await sql(
      tables
        .map(
          (name) =>
            `truncate ledgerman.${name}; insert into ledgerman.${name} table kept_${name}; drop table kept_${name}`,
        )
        .join(';'),
    )
    expect(await verify({ seal: made })).toMatchObject({ ok: true })
  })

  it('goes on from no seal that does not hold', async () => {
    const [kept] = await sql('select peaks from ledgerman.seal order by entries desc limit 1')
    await sql(
      `update ledgerman.seal set peaks[1] = sha256('x') where entries = (select max(entries) from ledgerman.seal)`,
    )
    await target().change('programme', ['P-107'], { priority: 5 }, { mode: 'commit', guard: '*' })
    expect((await service.request('POST', `${T}/book/seal`)).body).toMatchObject({ status: 409, code: 'book-altered' })
    await sql(`update ledgerman.seal set peaks = $1 where entries = (select max(entries) from ledgerman.seal)`, [
      kept?.['peaks'],
    ])
    expect((await service.request('POST', `${T}/book/seal`)).status).toBe(200)
  })

  it('proves one entry to who has neither database nor service', async () => {
    const key = createPublicKey(await target().book.key())
    for (const id of [ids[0], ids[4], ids[6]]) {
      const proof: EntryProof = await target().book.proof(id ?? '')
      expect([proof.entry['id'], whyNotProven(proof, key)]).toEqual([id, null])
      expect(whyNotProven({ ...proof, entry: { ...proof.entry, actor: 'nobody' } }, key)).not.toBeNull()
    }
    expect((await service.request('GET', `${T}/entries/none/proof`)).body.code).toBe('not-found')
  })

  it('is pruned, and still shows what else was done to it', async () => {
    const [moment] = await sql(
      `select (at + interval '1 millisecond') as at from ledgerman.entry where id = '${ids[1]}'`,
    )
    const before = (moment?.['at'] as Date).toISOString()
    const prune = (mode: string) =>
      service.request('POST', `${T}/book/pruning`, { body: { mode, before, note: 'too old' }, headers: json })
    const rehearsed = await prune('rehearse')
    expect([rehearsed.status, rehearsed.body.entry]).toEqual([200, null])
    const { entries } = rehearsed.body as { entries: number }
    expect(entries).toBeGreaterThanOrEqual(2)
    expect((await prune('commit')).body).toMatchObject({ entries, entry: expect.stringContaining('/entries/') })
    await seal()
    expect(await verify()).toMatchObject({ ok: true, pruned: entries })
    expect((await service.request('GET', `${T}/entries/${ids[0]}`)).body.code).toBe('not-found')
    expect((await target().entries({ limit: 1 })).entries[0]).toMatchObject({
      kind: 'prune',
      note: 'too old',
      changed: 0,
    })
    const past = new Date(Date.parse(before) - 1).toISOString()
    expect(await target().loadAsOf('programme', ['P-107'], past)).toMatchObject({
      sure: false,
      because: expect.stringContaining('was pruned from the book'),
    })
    expect(await target().loadAsOf('programme', ['P-107'], new Date().toISOString())).toMatchObject({ sure: true })
    // An entry that was only taken for pruned is missing, and so is one where the pruning itself is denied.
    expect(await findingsAfter(`delete from ledgerman.entry where id = '${ids[3]}'`)).toMatchObject([
      { entry: ids[3], what: 'missing' },
    ])
    const denied = await findingsAfter(`delete from ledgerman.entry where run ? 'pruned'`)
    expect(denied.filter(({ what }) => what === 'missing').length).toBe(entries + 1)
    expect(
      (
        await service.request('POST', `${T}/book/pruning`, {
          body: { mode: 'commit', before: '2999-01-01T00:00:00Z' },
          headers: json,
        })
      ).status,
    ).toBe(400)
  })

  it('is written out with its rows, and measured', async () => {
    const rows = async (accept: string, query = '') =>
      (await service.request('GET', `${T}/entries${query}`, { headers: { accept } })).text.trimEnd().split(/\r?\n/)
    const lines = (await rows('application/x-ndjson')).map((line) => JSON.parse(line) as Record<string, unknown>)
    expect(lines.filter(({ entry }) => entry === ids[4]).length).toBe(3)
    expect(lines.find(({ outcome }) => outcome === 'refused')).toMatchObject({
      problem: 'constraint-broken',
      before: null,
      after: null,
    })
    expect(lines.filter(({ entry }) => entry === ids[6])).toContainEqual(
      expect.objectContaining({
        mapping: 'calibration',
        key: expect.objectContaining({ kind: 'flat' }),
        before: expect.objectContaining({ frames: expect.any(String) }),
      }),
    )
    const csv = await rows('text/csv', '?mapping=calibration')
    expect(csv[0]).toBe('entry,at,actor,outcome,problem,transaction,kind,mapping,relation,key,before,after,note')
    expect(csv[1]).toMatch(new RegExp(`^${ids[6]},[^,]+,admin,committed,,,change,calibration,public.calibration,`))
    expect((await service.request('GET', `${T}/entries?limit=3`, { headers: { accept: 'text/csv' } })).status).toBe(400)
    const sizes = await target().book.sizes()
    expect(sizes.sizes).toContainEqual(
      expect.objectContaining({ mapping: 'calibration', entries: 1, images: expect.any(Number) }),
    )
    expect(sizes.totalBytes).toBeGreaterThan(0)
  })

  it('is sealed in the background', async () => {
    const other = await startTestService({ sealEveryMs: 100 })
    try {
      await other.client
        .target('observatory')
        .change('programme', ['P-107'], { priority: 1 }, { mode: 'commit', guard: '*' })
      const until = Date.now() + 20_000
      const sealed = () =>
        other.client
          .target('observatory')
          .book.seal()
          .then(
            ({ entries }) => entries,
            () => 0,
          )
      while ((await sealed()) < 1 && Date.now() < until) await new Promise((resolve) => setTimeout(resolve, 50))
      expect(await other.client.target('observatory').book.verify()).toMatchObject({
        ok: true,
        entries: 1,
        unsealed: 0,
      })
    } finally {
      await other.stop()
    }
  })
})
