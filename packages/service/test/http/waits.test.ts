import pg from 'pg'
import type { WaitingSession } from '@ledgerman/contract'
import { observatoryTransactions } from '../../../../testing/observatory-mappings.js'
import { startTestService, type RunningService } from '../../../../testing/running-service.js'

let service: RunningService
const W = '/v1/targets/observatory/waits'
const P = '/v1/targets/observatory/mappings/programme/records'
const JSON_TYPE = { 'content-type': 'application/json' }
const open: pg.Client[] = []
const session = async (application: string, url = service.observatory.ownerUrl) => {
  const client = new pg.Client({ connectionString: url, application_name: application })
  client.on('error', () => undefined)
  await client.connect()
  open.push(client)
  return client
}
const pause = (ms: number) => new Promise((resolve) => setTimeout(resolve, ms))
const look = async (token?: string) =>
  (await service.request('GET', W, token === undefined ? {} : { token })).body.sessions as WaitingSession[]
/** Looks until it is seen, since a busy machine takes its time, and a look is kept for a while. */
async function lookUntil(isSeen: (sessions: WaitingSession[]) => boolean, token?: string): Promise<WaitingSession[]> {
  const deadline = Date.now() + 20_000
  for (;;) {
    const sessions = await look(token)
    if (isSeen(sessions) || Date.now() > deadline) return sessions
    await pause(100)
  }
}
const isHeldBy = (application: string) => (sessions: WaitingSession[]) =>
  sessions.some((each) => each.application === application && each.behind > 0)

beforeAll(async () => {
  service = await startTestService()
  // Waits for so long that a busy machine has seen it wait.
  const source = observatoryTransactions.find(({ file }) => file === 'move-hours.yaml')?.source ?? ''
  const patient = source
    .replace('transaction: move-hours', 'transaction: move-patiently')
    .replace('lockWait: 2s', 'lockWait: 12s')
    .replace('timeLimit: 10s', 'timeLimit: 20s')
  await service.client.target('observatory').publish([{ source: patient }])
})
afterEach(async () => {
  await Promise.all(open.splice(0).map((client) => client.end().catch(() => undefined)))
  await lookUntil((sessions) => sessions.length === 0)
})
afterAll(() => service.stop())

describe('who waits for whom', () => {
  it('shows a run of its own with its id, and says who holds the lock while it waits', async () => {
    const holder = await session('night report')
    await holder.query(`begin; select 1 from programme where code = 'P-107' for update`)
    const waiting: string[] = []
    const running = service.client
      .target('observatory')
      .run(
        { mode: 'rehearse', transaction: 'move-patiently', params: { from: 'P-107', to: 'P-112', hours: '1' } },
        { onWait: ([first]) => void waiting.push(first?.application ?? '') },
      )
      .catch((error: unknown) => error)
    const sessions = await lookUntil((seen) => seen.some(({ run }) => run !== null))
    const ours = sessions.find(({ run }) => run !== null)
    expect(ours ?? (await running)).toMatchObject({ blockedBy: [sessions[0]?.pid], wants: 'row', table: 'programme' })
    // The same, for whoever looks at that record; nobody waits for another one.
    const rowWaits = (code: string) => service.request('GET', `${P}/${code}/waits`)
    const ofRow = (await rowWaits('P-107')).body.sessions as WaitingSession[]
    expect(ofRow.map(({ pid }) => pid).sort()).toEqual([sessions[0]?.pid, ours?.pid].sort())
    expect((await rowWaits('P-112')).body).toEqual({ sessions: [] })
    // What the link from the waits leads to while there is no entry yet.
    const target = service.client.target('observatory')
    const state = () => target.runState(ours?.run ?? '')
    while (waiting.length === 0) await pause(20)
    const { attention } = await target.overview()
    expect(attention).toContainEqual({ kind: 'waits', about: null, message: '1 session blocked by 1' })
    expect(await state()).toMatchObject({
      state: 'running',
      transaction: 'move-patiently',
      actor: 'admin',
      waitsFor: [{ application: 'night report' }],
    })
    expect(await running).toMatchObject({
      code: 'lock-timeout',
      facts: { holder: { application: 'night report', isRoot: true } },
    })
    expect(waiting).toEqual(['night report'])
    expect(await state()).toMatchObject({ state: 'over', entry: null })
    await expect(target.runState('nobody')).rejects.toMatchObject({ code: 'not-found' })
    for (const verb of [
      () =>
        target.remove('programme', ['P-107'], {
          guard: '*',
          onWait: ([first]) => void waiting.push(`remove ${first?.application}`),
        }),
      () =>
        target.add(
          'programme',
          { code: 'P-107', title: 'x', lead: 1, semester: '2026A' },
          { mode: 'rehearse', onWait: () => undefined },
        ),
    ])
      expect(await verb().catch((error: unknown) => error)).toHaveProperty('code')
    expect(waiting).toContain('remove night report')
    // Who holds it is for everybody who waits; what that session ran is for authors, as the list of waits is.
    const told = async (role: 'writer' | 'author') => {
      const { token } = await service.client.addToken({ name: `told ${role}`, role })
      const { body } = await service.request('DELETE', '/v1/targets/observatory/mappings/programme/records/P-107', {
        headers: { 'if-match': '*' },
        token,
      })
      return body as { holder: { application: string; lastStatement: string | null }; lastStatement: string | null }
    }
    const [writer, author] = [await told('writer'), await told('author')]
    expect(writer).toMatchObject({ lastStatement: null, holder: { application: 'night report', lastStatement: null } })
    expect(JSON.stringify(writer)).not.toContain('select 1 from programme')
    expect(author.holder.lastStatement).toContain('for update')
    const keyed = await service.request('PATCH', '/v1/targets/observatory/mappings/programme/records/P-107', {
      headers: { 'content-type': 'application/merge-patch+json', 'if-match': '*' },
      body: { priority: 1 },
    })
    expect(keyed.body).toMatchObject({
      status: 423,
      code: 'lock-timeout',
      application: 'night report',
      chain: [{ isRoot: true }],
    })
  })

  it('names a prepared transaction, which no session serves and nobody here can end', async () => {
    const coordinator = await session('coordinator')
    const name = service.observatory.name
    try {
      await coordinator.query(
        `begin; update programme set priority = priority where code = 'P-109'; prepare transaction '${name} row'`,
      )
      await coordinator.query(`begin; lock table calibration; prepare transaction '${name} table'`)
      const refused = await service.client
        .target('observatory')
        .change('programme', ['P-109'], { priority: 3 }, { guard: '*' })
        .catch((error: unknown) => error)
      expect(refused).toMatchObject({
        code: 'lock-timeout',
        detail: expect.stringMatching(
          `held by the prepared transaction ${name} row \\(postgres\\), prepared for [\\d.]+ s. It stays until`,
        ) as string,
        facts: { holder: { application: `${name} row`, state: 'prepared', isRoot: true } },
      })
      const [first, second] = [await session('first'), await session('second')]
      const waiting = [
        first.query(`update programme set priority = priority where code = 'P-109'`),
        second.query('select * from calibration'),
      ].map((work) => work.catch(() => undefined))
      const sessions = await lookUntil((seen) => isHeldBy(`${name} row`)(seen) && isHeldBy(`${name} table`)(seen))
      for (const [held, lock] of [
        ['row', 'row'],
        ['table', 'table'],
      ]) {
        const holder = sessions.find(({ application }) => application === `${name} ${held}`)
        expect(holder).toMatchObject({ isRoot: true, behind: 1, state: 'prepared' })
        expect(sessions.filter(({ blockedBy }) => blockedBy.includes(holder?.pid ?? 0))).toMatchObject([{ lock }])
        const { status, body } = await service.request('POST', `${W}/${holder?.pid}/end`, {
          body: { startedAt: holder?.startedAt },
          headers: JSON_TYPE,
        })
        expect([status, body.detail]).toEqual([400, expect.stringContaining('ROLLBACK PREPARED')])
      }
      await coordinator.query(`rollback prepared '${name} row'`)
      await coordinator.query(`rollback prepared '${name} table'`)
      await Promise.all(waiting)
    } finally {
      for (const held of ['row', 'table'])
        await coordinator.query(`rollback prepared '${name} ${held}'`).catch(() => undefined)
    }
  })

  it('is for authors, and ends a session only for an admin who names the one that was seen', async () => {
    const idle = await session('forgotten', service.observatory.url)
    await idle.query(`begin; update programme set priority = 1 where code = 'P-101'`)
    const waiter = await session('behind it')
    const waited = waiter.query(`update programme set priority = 2 where code = 'P-101'`)
    const reader = (await service.client.addToken({ name: 'reader', role: 'reader' })).token
    const author = (await service.client.addToken({ name: 'author', role: 'author' })).token
    expect((await service.request('GET', W, { token: reader })).status).toBe(403)
    const [root] = await lookUntil(isHeldBy('forgotten'), author)
    expect(root).toMatchObject({ application: 'forgotten', isRoot: true, behind: 1 })
    const end = (startedAt: string, token?: string) =>
      service.request('POST', `${W}/${root?.pid}/end`, {
        headers: JSON_TYPE,
        body: { startedAt },
        ...(token ? { token } : {}),
      })
    expect((await end(root?.startedAt ?? '', author)).status).toBe(403)
    expect((await end('2020-01-01T00:00:00Z')).body).toMatchObject({ status: 404, code: 'not-found' })
    expect((await end(root?.startedAt ?? '')).body).toEqual({ pid: root?.pid, action: 'end', done: true })
    await waited
    await lookUntil((sessions) => sessions.length === 0)
    expect((await service.request('GET', W)).body.ended).toMatchObject([
      { actor: 'admin', action: 'end', application: 'forgotten' },
    ])
  })

  it('is streamed as it changes, and things are staged on the demo only', async () => {
    const staged = await service.client.target('observatory').stage({ what: 'idle', seconds: 2 })
    expect(staged.message).toMatch(/went idle in its transaction/)
    const seen: number[] = []
    const watching = new AbortController()
    for await (const { sessions } of service.client.target('observatory').watchWaits(watching.signal)) {
      seen.push(sessions.length)
      if (sessions.length === 0 || seen.length > 60) break
    }
    expect(Math.max(...seen)).toBeGreaterThanOrEqual(5)
    expect(seen.at(-1)).toBe(0)
  })
})

describe('a conflict', () => {
  const P = '/v1/targets/observatory/mappings/programme/records/P-115'
  const patch = (set: object, guard: string) =>
    service.request('PATCH', P, { headers: { ...JSON_TYPE, 'if-match': `"${guard}"` }, body: { set } })

  it('is explained from the book: what was loaded, who changed what, and whether that is in the way', async () => {
    const { token } = await service.client.addToken({ name: 'day-desk', role: 'writer' })
    const theirs = {
      headers: { ...JSON_TYPE, 'if-match': '"v1"' },
      body: { set: { title: 'Theirs', semester: '2027B' } },
      token,
    }
    expect((await service.request('PATCH', P, theirs)).status).toBe(200)
    const apart = (await patch({ hoursLeft: '1.00' }, 'v1')).body
    expect(apart).toMatchObject({
      code: 'record-changed',
      overlap: [],
      theirs: ['title', 'semester'],
      by: { title: { actor: 'day-desk' } },
    })
    expect(apart.loaded).toMatchObject({ hoursLeft: expect.any(String), title: expect.not.stringMatching(/Theirs/) })
    expect((await patch({ title: 'Mine' }, 'v1')).body).toMatchObject({
      overlap: ['title'],
      yours: { title: 'Mine' },
      current: { title: 'Theirs' },
    })
    const target = service.client.target('observatory')
    const again = await target.change(
      'programme',
      ['P-115'],
      { hoursLeft: '1.00' },
      { guard: 'v1', ifChanged: 'reapply' },
    )
    expect(again.record).toMatchObject({ title: 'Theirs', hoursLeft: '1.00', rowVersion: 3 })
    await expect(
      target.change('programme', ['P-115'], { title: 'Mine' }, { guard: 'v1', ifChanged: 'reapply' }),
    ).rejects.toMatchObject({ code: 'record-changed' })
  })

  it('says so where the record was removed meanwhile', async () => {
    const target = service.client.target('observatory')
    await target.add('telescope', { code: 'TMP', name: 'Borrowed', apertureM: '0.30' })
    const { guard } = await target.load('telescope', ['TMP'])
    await target.remove('telescope', ['TMP'], { guard: guard ?? '' })
    const gone = await target
      .change('telescope', ['TMP'], { name: 'x' }, { guard: guard ?? '' })
      .catch((error: unknown) => error)
    expect(gone).toMatchObject({
      code: 'no-such-record',
      detail: expect.stringMatching(/removed by admin/) as string,
      facts: { removed: { actor: 'admin' } },
    })
  })
})

// Last, since a look at so many is kept for a while.
describe('three hundred sessions', () => {
  it('in piles ten deep are told right', async () => {
    const PILES = 30
    const DEEP = 10
    const pileUp = async (pile: number) => {
      const root = await session(`root ${pile}`)
      await root.query('begin')
      await root.query(
        pile === 0
          ? 'lock table telescope in access exclusive mode'
          : `select 1 from programme where id = ${pile} for update`,
      )
      for (let depth = 1; depth < DEEP; depth++) {
        const waiter = await session(`waiter ${pile}`)
        await waiter.query('begin')
        void waiter
          .query(pile === 0 ? 'select 1 from telescope' : `update programme set priority = priority where id = ${pile}`)
          .catch(() => undefined)
      }
    }
    await Promise.all(Array.from({ length: PILES }, (_, pile) => pileUp(pile)))
    const sessions = await lookUntil(
      (seen) => seen.length === PILES * DEEP && seen.filter(({ isRoot }) => isRoot).length === PILES,
    )
    const roots = sessions.filter(({ isRoot }) => isRoot)
    expect(roots.map(({ application, behind }) => [application, behind]).sort()).toEqual(
      Array.from({ length: PILES }, (_, pile) => [`root ${pile}`, DEEP - 1]).sort(),
    )
    expect(sessions).toHaveLength(PILES * DEEP)
    const tableWait = sessions.find(({ application }) => application === 'waiter 0')
    expect(tableWait).toMatchObject({
      lock: 'table',
      wants: 'table, AccessShareLock',
      table: 'telescope',
      state: 'active',
      lastStatement: 'select 1 from telescope',
    })
    expect(sessions.find(({ application }) => application === 'waiter 2')).toMatchObject({
      lock: 'row',
      table: 'programme',
    })
    expect(roots.find(({ application }) => application === 'root 0')?.holds).toEqual(['telescope, AccessExclusiveLock'])
  })
})
