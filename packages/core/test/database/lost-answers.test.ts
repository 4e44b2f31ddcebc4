import { generateKeyPairSync, randomUUID } from 'node:crypto'
import { once } from 'node:events'
import { createServer, type AddressInfo, type Socket } from 'node:net'
import { setTimeout as delay } from 'node:timers/promises'
import { isProblem, type JobInput, type LedgermanProblem } from '@ledgerman/contract'
import {
  changeRecord,
  findRecords,
  parseKeyParts,
  pruneBook,
  resolveFilterJob,
  resolvePlan,
  runFilterJob,
  runPlan,
  Target,
  type Mapping,
} from '@ledgerman/core'
import { sealSigner } from '@ledgerman/seal'
import { openOwnTables, type OwnTables } from '../../../../testing/own-tables.js'
import { openProxy, type Proxy } from '../../../../testing/proxy.js'

// Each test here fails where what nobody knows is told as if it were known, or where a commit is told as something else.

let own: OwnTables
let proxy: Proxy
let target: Target
let account: Mapping
/** The same table without the column that has runs go step by step. */
let plain: Mapping

beforeAll(async () => {
  own = await openOwnTables()
  account = await own.mapped(
    'public.account',
    `create table account (code text primary key, amount integer not null, slots integer[]);
     insert into account values ('A1', 10, '[0:1]={1,2}'), ('A2', 10, '[0:1]={1,2}')`,
    { guard: { by: 'none' } },
  )
  const properties = { code: { column: 'code' }, amount: { column: 'amount' } }
  plain = await own.mapped('public.account', 'select 1', { guard: { by: 'none' }, properties })
  proxy = await openProxy(own.database.url)
})
beforeEach(() => {
  target = new Target({
    name: 'cut',
    url: proxy.urlOf(own.database.url),
    connections: 6,
    digestKey: Buffer.from('k'),
    // Statements that are prepared already go by their name only, which a proxy cannot tell.
    prepareStatements: false,
  })
})
afterEach(async () => {
  proxy.rules = {}
  await target.close()
})
afterAll(async () => {
  await proxy.close()
  await own.close()
})

const problemOf = (work: Promise<unknown>): Promise<LedgermanProblem> =>
  work.then(
    () => Promise.reject(new Error('it was told as done')),
    (error: unknown) => (isProblem(error) ? error : Promise.reject(error as Error)),
  )
const amountOf = async (code: string) =>
  (await own.database.sql('select amount from account where code = $1', [code]))[0]?.['amount']
/** Whether a change itself is on its way, rather than its text to the book. */
const isChange = (text: string) => /update public\.account/.test(text) && !/ledgerman\.statement/.test(text)
const setTo = (amount: number, of = target) =>
  changeRecord(of, account, {
    mode: 'commit',
    actor: 'ada',
    key: parseKeyParts(account, ['A1']),
    guard: undefined,
    values: { amount },
  })
const plan = (of: Target, more: object = {}, name: string | null = 'take') =>
  resolvePlan(
    of,
    {
      params: {},
      steps: [{ change: 'account', key: { code: `'A1'` }, compute: { amount: 'amount + 1' } }],
      ...more,
    },
    name,
    1,
    () => Promise.resolve(plain),
  )

const runOf = async () => runPlan(target, await plan(target), { mode: 'commit', actor: 'ada', params: {} })

describe.each([
  ['a keyed change', () => setTo(99)],
  ['a run', () => runOf()],
])('the connection breaks before %s arrives, and again after the marker', (_, work) => {
  it('is told as not committed, as it stands in the book', async () => {
    // So that the texts stand in the book already.
    await work()
    const before = await amountOf('A1')
    let cuts = 0
    proxy.rules = {
      onRequest(text) {
        if (isChange(text)) return 'cut'
        // The first marker goes in, and its answer is lost: the second one meets it.
        return text.includes('The connection broke before') && cuts++ === 0 ? 'cutAnswer' : 'pass'
      },
    }
    const problem = await problemOf(work())
    expect(problem.code).toBe('target-unavailable')
    expect(cuts).toBeGreaterThan(1)
    expect(await amountOf('A1')).toBe(before)
    expect((await own.lastEntry())?.['outcome']).toBe('refused')
  })
})

it('tells a commit whose answer was lost as committed', async () => {
  await target.isBookPrepared()
  proxy.rules = { onRequest: (text) => (isChange(text) ? 'cutAnswer' : 'pass') }
  const { receipt } = await setTo(77)
  expect(receipt).toMatchObject({ outcome: 'committed', steps: [{ matched: 1, changed: 1 }] })
  expect(await amountOf('A1')).toBe(77)
})

it('tells a change as committed though the record holds a value that JSON cannot carry', async () => {
  const { record, receipt } = await setTo(78)
  expect(receipt).toMatchObject({ outcome: 'committed', notShown: [expect.stringContaining('slots')] })
  expect(record).toEqual({ code: 'A1', amount: 78 })
  expect((await own.lastEntry())?.['outcome']).toBe('committed')
})

it('runs nothing a second time under an entry that stands already', async () => {
  const before = await amountOf('A1')
  let id = ''
  const work = runPlan(target, await plan(target), {
    mode: 'commit',
    actor: 'ada',
    params: {},
    onBegin: (run) => (id = run.id),
    hooks: {
      beforeStep: async () =>
        void (await own.database.sql(
          `insert into ledgerman.entry (id, actor, outcome) values ($1, 'ada', 'committed')`,
          [id],
        )),
    },
  })
  await expect(work).rejects.toThrow()
  expect(await amountOf('A1')).toBe(before)
})

it('sends nothing that writes behind a BEGIN that has no answer yet', async () => {
  await target.isBookPrepared()
  let isBeginOpen = false
  const early: string[] = []
  proxy.rules = {
    onRequest(text) {
      if (isBeginOpen && isChange(text)) early.push(text)
      if (/begin isolation/.test(text)) isBeginOpen = true
      return 'pass'
    },
    onAnswer: async () => {
      if (isBeginOpen) await delay(20)
      isBeginOpen = false
    },
  }
  const own = await plan(target, { isolation: 'repeatable read' })
  const { receipt } = await runPlan(target, own, { mode: 'commit', actor: 'ada', params: {} })
  expect(receipt.outcome).toBe('committed')
  expect(early).toEqual([])
})

it('gives nobody a session that is still in a transaction', async () => {
  const session = await target.session()
  await session.query('begin')
  await session.query('select 1/0').catch(() => undefined)
  session.release()
  await expect(target.query('select 1')).resolves.toMatchObject({ rows: [['1']] })
})

it('takes no server that is silent for one whose sessions are all busy', async () => {
  const open = new Set<Socket>()
  const silent = createServer((socket) => void open.add(socket)).listen(0, '127.0.0.1')
  await once(silent, 'listening')
  const url = `postgres://somebody@127.0.0.1:${(silent.address() as AddressInfo).port}/mute`
  const mute = new Target({ name: 'mute', url, connections: 2, digestKey: Buffer.from('k') })
  try {
    const told = await Promise.all(Array.from({ length: 6 }, () => problemOf(mute.query('select 1'))))
    expect(new Set(told.map(({ code }) => code))).toEqual(new Set(['target-unavailable']))
    const words = expect.stringMatching(/^mute cannot be reached: it does not answer\. Nothing was sent/) as string
    expect(told.map(({ detail }) => detail)).toContainEqual(words)
  } finally {
    await mute.close()
    for (const socket of open) socket.destroy()
    silent.close()
  }
})

it('cancels what the server does not end by itself, hears its last words, and lends that session to nobody', async () => {
  const hasty = new Target({
    ...{ name: 'hasty', url: own.database.url, connections: 1, digestKey: Buffer.from('k') },
    limits: { timeLimitMs: 1_000 },
  })
  try {
    const session = await hasty.session()
    const { pid } = session
    // Neither does a COMMIT that waits for a standby end with the time limit: when it is cancelled, it is done.
    await session.query(`set statement_timeout = 0`)
    await expect(session.query('select pg_sleep(60)')).rejects.toMatchObject({ code: '57014' })
    session.release()
    const next = await hasty.session()
    expect(next.pid).not.toBe(pid)
    next.release()
  } finally {
    await hasty.close()
  }
})

it('says of a job and of a reading that broke off what is known of them, and no more', async () => {
  const request = {
    ...{ job: randomUUID(), mode: 'commit' as const, actor: 'ada', note: null, timeLimitMs: 5_000 },
    ...{ signal: new AbortController().signal, onProgress: () => undefined },
  }
  const input = { mode: 'commit', mapping: 'account', where: `code = 'A2'`, expect: 'any', compute: { amount: '99' } }
  const job = await resolveFilterJob(target, input as unknown as JobInput, () => Promise.resolve(plain))
  const before = await amountOf('A2')
  proxy.rules = { onRequest: (text) => (isChange(text) ? 'cut' : 'pass') }
  const broken = await problemOf(runFilterJob(target, job, request))
  expect(broken.detail).toMatch(/^The connection to cut broke: .* was not committed\. Try again/)
  expect(await amountOf('A2')).toBe(before)
  proxy.rules = { onRequest: (text) => (/from public\.account/.test(text) ? 'cut' : 'pass') }
  const find = findRecords(target, account, { limit: 1 }, () => Promise.resolve(account))
  expect((await problemOf(find)).detail).toMatch(/^The connection to cut broke: (?!.*(?:sent|committed))/)
})

const signer = sealSigner(generateKeyPairSync('ed25519').privateKey)
it.each(['cut', 'cutAnswer'] as const)('knows of a pruning whether it was committed: %s', async (verdict) => {
  await setTo(5)
  await setTo(6)
  const old = async () =>
    (
      await own.database.sql(
        `select 1 from ledgerman.entry where outcome = 'committed' and not coalesce(run ? 'pruned', false)`,
      )
    ).length
  const before = await old()
  let isPruning = false
  proxy.rules = {
    onRequest: (text) => {
      isPruning ||= text.includes('delete from ledgerman.entry')
      return isPruning && text.includes('commit\0') ? verdict : 'pass'
    },
  }
  const pruning = pruneBook(target, signer, {
    ...{ mode: 'commit', before: new Date().toISOString(), actor: 'ada', note: null },
    signal: new AbortController().signal,
  })
  const told = await pruning.then(
    ({ entry }) => (entry === null ? 'nothing' : 'pruned'),
    ({ code, detail }: LedgermanProblem) => (/was not committed/.test(detail) ? code : detail),
  )
  expect([told, await old()]).toEqual(verdict === 'cut' ? ['target-unavailable', before] : ['pruned', 0])
})
