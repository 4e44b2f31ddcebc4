import pg from 'pg'
import { transactionDefinition } from '@ledgerman/contract'
import { emitCode, resolvePlan, type Mapping } from '@ledgerman/core'
import { compileCode, type CompiledCode } from '../../../../testing/compiled-code.js'
import { openOwnTables, type OwnTables } from '../../../../testing/own-tables.js'

// A booked transaction of written code is one statement where it can be. What it changes, books and refuses is what its steps would.
let own: OwnTables
let code: CompiledCode
const DDL = `
create table store (id integer primary key, name text not null, litres numeric(8,2) not null check (litres < 1000), owner text not null, tags text[], version integer not null default 1);
create table note (id integer primary key, store integer not null, text text)`
const GIVE = {
  transaction: 'give',
  params: {
    from: { type: 'integer' },
    to: { type: 'integer' },
    litres: { type: 'numeric', rule: ':litres > 0' },
    note: { type: 'text' },
  },
  steps: [
    { load: 'store', as: 'both', where: 'id in (:from, :to)', lock: 'change', expect: 2 },
    { load: 'store', as: 'giver', key: { id: ':from' } },
    { require: 'giver.litres >= :litres', otherwise: '{giver.name} has {giver.litres} only.' },
    { change: 'store', key: { id: ':from' }, compute: { litres: 'litres - :litres' }, guard: 'any' },
    {
      change: 'store',
      key: { id: ':to' },
      compute: { litres: 'litres + :litres', owner: 'giver.owner', tags: 'giver.tags' },
      guard: 'any',
    },
    { add: 'note', when: `:note <> ''`, compute: { id: ':from', store: ':to', text: ':note' } },
  ],
}

beforeAll(async () => {
  own = await openOwnTables()
  const guard = { by: 'version', property: 'version' } as const
  const store = await own.mapped('public.store', DDL, { guard })
  const properties = {
    ...store.definition.properties,
    owner: { ...store.definition.properties['owner'], sensitive: true },
  }
  const mappings = new Map([
    ['store', await own.mapped('public.store', '', { guard, properties } as object)],
    ['note', await own.mapped('public.note', '')],
  ])
  const { transaction, ...definition } = transactionDefinition.parse(GIVE)
  const plan = await resolvePlan(own.target, definition, transaction, 1, (name) =>
    Promise.resolve(mappings.get(name) as Mapping),
  )
  code = await compileCode(emitCode([], [{ ...plan, name: transaction }], true))
  code.module.configureBook({ actor: 'tests', digestKey: Buffer.from('k') })
})
afterEach(() => code.module.runStepByStep(false))
afterAll(async () => {
  code?.remove()
  await own.close()
})

/** A pool, and how the texts begin that were sent on it since last asked; how a transaction begins stands there whole. */
function watched(options: pg.PoolConfig = {}) {
  const pool = new pg.Pool({ connectionString: own.database.ownerUrl, max: 2, ...options })
  pool.on('error', () => undefined)
  const sent: string[] = []
  pool.on('connect', (client) => {
    const query = client.query.bind(client) as (...words: unknown[]) => unknown
    Object.assign(client, {
      query: (...words: unknown[]) => {
        const [first] = words
        const text = typeof first === 'string' ? first : (first as { text: string }).text
        sent.push(text.startsWith('begin') ? text : text.trim().split(/\s/, 2).join(' '))
        return query(...words)
      },
    })
  })
  return { pool, sinceLast: () => sent.splice(0) }
}

const fill = () =>
  own.database.sql(
    `truncate store, note; delete from ledgerman.entry; delete from ledgerman.image;
     insert into store select n, 'S' || n || '%s', 10 * n, 'o' || n, case n when 1 then '{a,"b c"}' when 2 then '[0:1]={x,NULL}' end::text[] from generate_series(1, 3) n`,
  )
const stored = () => own.database.sql('select * from store order by id')
const entries = () =>
  own.database.sql(
    `select outcome, problem, detail, actor, note, matched, changed, run - 'startedAt' - 'durationMs' as run,
       (select json_agg(to_jsonb(s) - 'entry' - 'duration_ms' order by s.no) from ledgerman.step s where s.entry = e.id) as steps,
       (select json_agg(to_jsonb(i) - 'entry' order by i.step) from ledgerman.image i where i.entry = e.id) as images
     from ledgerman.entry e order by at`,
  )
const CALLS = [
  { from: 1, to: 2, litres: '2.5', note: '100 %1$s of "it"' },
  { from: 2, to: 3, litres: '1', note: '' },
  { from: 1, to: 3, litres: '99', note: '' },
  { from: 1, to: 9, litres: '1', note: '' },
  { from: 3, to: 3, litres: '1', note: '' },
  { from: 1, to: 2, litres: '0', note: '' },
  { from: 1, to: 2, litres: '0.001', note: 'again' },
]

const GOOD = { from: 3, to: 2, litres: '1', note: '' }

/** Has it tried as one again, whatever was refused before. */
async function tried({ pool, sinceLast }: ReturnType<typeof watched>): Promise<void> {
  do await code.module.give(pool, GOOD)
  while (!sinceLast().includes('with h1'))
}

async function allCalls(pool: unknown) {
  await fill()
  const told: unknown[] = []
  for (const call of CALLS)
    told.push(
      await (code.module.give(pool, call) as Promise<unknown>).catch((error: { code: string; message: string }) => [
        error.code,
        error.message,
      ]),
    )
  return { told, stored: await stored(), entries: await entries() }
}

it('changes, books and refuses in one statement what it does step by step', async () => {
  const alone = watched(code.module.POOL_SETTINGS as unknown as pg.PoolConfig)
  const plain = watched()
  try {
    const whole = await allCalls(alone.pool)
    expect(whole.told.map((each) => (Array.isArray(each) ? each[0] : each))).toEqual([
      { matched: 3, changed: 3, steps: { both: { matched: 2, changed: 0 }, giver: { matched: 1, changed: 0 } } },
      { matched: 2, changed: 2, steps: { both: { matched: 2, changed: 0 }, giver: { matched: 1, changed: 0 } } },
      ...['rule-broken', 'count-mismatch', 'count-mismatch', 'rule-broken', 'constraint-broken'],
    ])
    expect(whole.told[2]).toEqual(['rule-broken', 'S1%s has 7.50 only.'])
    expect(JSON.stringify(whole.entries)).toContain('100 %1$s of \\"it\\"')
    // The owner is a digest wherever it stands.
    expect(JSON.stringify(whole.entries)).not.toMatch(/"o[123]"/)
    expect(await allCalls(plain.pool)).toEqual(whole)
    code.module.runStepByStep(true)
    expect(await allCalls(plain.pool)).toEqual(whole)
  } finally {
    await Promise.all([alone.pool.end(), plain.pool.end()])
  }
})

it('is one round trip where connections begin with the limits, and three elsewhere', async () => {
  const alone = watched(code.module.POOL_SETTINGS as unknown as pg.PoolConfig)
  const plain = watched()
  try {
    await fill()
    for (const each of [alone, plain]) {
      await tried(each)
      await code.module.give(each.pool, GOOD)
    }
    const before = await stored()
    expect(alone.sinceLast()).toEqual(['with h1'])
    expect(plain.sinceLast()).toEqual([expect.stringMatching(/^begin/), 'with h1', 'commit'])
    // What is refused is asked again, step by step; what is refused again and again is not tried as one each time.
    const bad = { ...GOOD, litres: '500' }
    const tries: boolean[] = []
    for (let at = 0; at < 6; at++) {
      await expect(code.module.give(plain.pool, bad)).rejects.toMatchObject({ code: 'rule-broken' })
      tries.push(plain.sinceLast().includes('with h1'))
    }
    expect(tries).toEqual([true, true, false, true, false, false])
    // Within a transaction of the caller's nothing may fail that need not.
    const client = await plain.pool.connect()
    await client.query('begin')
    await expect(code.module.give(client, bad)).rejects.toMatchObject({ code: 'rule-broken' })
    await code.module.give(client, GOOD)
    await client.query('commit')
    client.release()
    expect(plain.sinceLast().filter((text) => text.startsWith('with h1'))).toEqual([])
    // Planned each time, so long a statement would cost more than it saves.
    code.module.prepareStatements(false)
    for (let at = 0; at < 3; at++) await code.module.give(plain.pool, GOOD)
    code.module.prepareStatements(true)
    expect(plain.sinceLast()).not.toContain('with h1')
    // Of what was refused nothing is there.
    expect(Number((await stored())[1]?.['litres']) - Number(before[1]?.['litres'])).toBe(4)
  } finally {
    await Promise.all([alone.pool.end(), plain.pool.end()])
  }
})

it('waits for a lock once, and says what it does not know', async () => {
  const alone = watched(code.module.POOL_SETTINGS as unknown as pg.PoolConfig)
  const { pool } = alone
  const holder = await own.database.session()
  const waiting = () =>
    own.database.sql(`select pid from pg_stat_activity where datname = current_database() and wait_event_type = 'Lock'`)
  try {
    await fill()
    await tried(alone)
    await holder.query('begin; select from store where id = 3 for update')
    const cut = code.module.give(pool, GOOD) as Promise<unknown>
    const told = expect(cut).rejects.toMatchObject({ code: 'outcome-unknown' })
    let [session] = await waiting()
    while (!session) [session] = await waiting()
    await own.database.sql(`select pg_terminate_backend(${Number(session['pid'])})`)
    await told

    alone.sinceLast()
    await expect(code.module.give(pool, GOOD)).rejects.toMatchObject({ code: 'lock-timeout' })
    // Which step it was is asked without waiting again.
    expect(alone.sinceLast().filter((text) => /^(with h1|begin)/.test(text))).toEqual([
      'with h1',
      expect.stringContaining('lock_timeout = 1;'),
    ])
    expect((await entries()).at(-1)).toMatchObject({ outcome: 'refused', problem: 'lock-timeout' })
    await holder.query('rollback')
    expect(await code.module.give(pool, GOOD)).toMatchObject({ changed: 2 })
  } finally {
    await holder.end()
    await pool.end()
  }
})
