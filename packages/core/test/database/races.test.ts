import { setTimeout as delay } from 'node:timers/promises'
import { isProblem, mappingDefinition, type MappingDefinition } from '@ledgerman/contract'
import {
  changeRecord,
  loadRecord,
  parseKeyParts,
  prepareBook,
  removeRecord,
  resolveMapping,
  Target,
  type Mapping,
} from '@ledgerman/core'
import { makeDatabase, type TestDatabase } from '../../../../testing/databases.js'

let database: TestDatabase
let target: Target
const guards = {
  version: { by: 'version', property: 'rowVersion' },
  rowStamp: { by: 'rowStamp' },
  values: { by: 'values', of: ['note', 'amount'] },
} as const satisfies Record<string, MappingDefinition['guard']>
const mappings: Partial<Record<keyof typeof guards, Mapping>> = {}

beforeAll(async () => {
  database = await makeDatabase()
  await database.sql(
    `create table slot (id integer primary key, note text, amount numeric(6,2), row_version integer not null default 1); grant all on slot to ledgerman_worker`,
  )
  target = new Target({
    name: 'races',
    url: database.url,
    connections: 20,
    limits: { lockWaitMs: 5_000 },
    digestKey: Buffer.from('k'),
  })
  await prepareBook(target)
  const columns = { id: 'id', note: 'note', amount: 'amount', rowVersion: 'row_version' }
  const properties = Object.fromEntries(Object.entries(columns).map(([name, column]) => [name, { column }]))
  for (const [by, guard] of Object.entries(guards)) {
    const definition = mappingDefinition.parse({
      mapping: 'slot',
      table: 'public.slot',
      key: ['id'],
      guard,
      properties,
    })
    mappings[by as keyof typeof guards] = resolveMapping(definition, 1, await target.table('public.slot'))
  }
})
afterAll(async () => {
  await target.close()
  await database.drop()
})

/** Until somebody waits for a lock in this database. */
async function untilWaiting(): Promise<void> {
  while (
    (
      await database.sql(
        `select 1 from pg_stat_activity where wait_event_type = 'Lock' and datname = current_database()`,
      )
    ).length === 0
  )
    await delay(5)
}

const rowOf = async (id: number) =>
  (await database.sql('select note, amount, row_version from slot where id = $1', [id]))[0]
const committedEntries = async (id: number) =>
  (await database.sql(`select 1 from ledgerman.history where key = $1 and outcome = 'committed'`, [{ id: String(id) }]))
    .length

// Another writer holds the row and has changed it. Our caller has sent a change and waits for that lock. Then the other
// ends its transaction this way or that. Each line: what the other does, and what our caller gets, by guard.
const OTHERS: [what: string, sql: string, end: string, outcomes: Record<keyof typeof guards, string>][] = [
  [
    'commits a change that counts the version up',
    `update slot set note = 'theirs', row_version = row_version + 1`,
    'commit',
    { version: 'record-changed', rowStamp: 'record-changed', values: 'record-changed' },
  ],
  [
    'rolls its change back',
    `update slot set note = 'theirs', row_version = row_version + 1`,
    'rollback',
    { version: 'committed', rowStamp: 'committed', values: 'committed' },
  ],
  [
    'removes the row',
    'delete from slot',
    'commit',
    { version: 'no-such-record', rowStamp: 'no-such-record', values: 'no-such-record' },
  ],
  [
    'rolls a removal back',
    'delete from slot',
    'rollback',
    { version: 'committed', rowStamp: 'committed', values: 'committed' },
  ],
  // A version guard does not see writers who do not count it up: docs/guards.md says so.
  [
    'changes without counting the version up',
    `update slot set note = 'theirs'`,
    'commit',
    { version: 'committed', rowStamp: 'record-changed', values: 'record-changed' },
  ],
  [
    'only locks the row',
    'select 1 from slot',
    'commit',
    { version: 'committed', rowStamp: 'committed', values: 'committed' },
  ],
  [
    'writes the same values again',
    'update slot set note = note',
    'commit',
    { version: 'committed', rowStamp: 'record-changed', values: 'committed' },
  ],
]

let nextId = 0

describe.each(Object.keys(guards) as (keyof typeof guards)[])(
  'while our caller, guarded by %s, waits for a lock, another writer',
  (by) => {
    it.each(OTHERS)('%s', async (_what, sql, end, outcomes) => {
      const mapping = mappings[by] as Mapping
      const id = ++nextId
      await database.sql(`insert into slot values ($1, 'ours', 1, 1)`, [id])
      const key = parseKeyParts(mapping, [String(id)])
      const { guard } = await loadRecord(target, mapping, key)
      const other = await database.session()
      await other.query(`begin; ${sql} where id = ${id}${sql.startsWith('select') ? ' for update' : ''}`)
      const waiting = changeRecord(target, mapping, {
        key,
        values: { amount: '2.00' },
        guard: { guards: [guard ?? ''] },
        mode: 'commit',
        actor: 'waiter',
      }).then(
        ({ receipt }) => receipt.outcome,
        (error: unknown) => (isProblem(error) ? error.code : error),
      )
      await untilWaiting()
      await other.query(end)
      await other.end()
      const expected = outcomes[by]
      expect(await waiting).toBe(expected)
      const row = await rowOf(id)
      if (expected === 'committed') {
        expect(row).toMatchObject({
          amount: '2.00',
          note: end === 'commit' && sql.includes('theirs') ? 'theirs' : 'ours',
        })
        expect(row?.['row_version']).toBe(by === 'version' ? 2 : 1)
      } else if (expected === 'record-changed') expect(row).toMatchObject({ amount: '1.00' })
      else expect(row).toBeUndefined()
      expect(await committedEntries(id)).toBe(expected === 'committed' ? 1 : 0)
    })
  },
)

describe('a caller who holds the version that the other is about to commit', () => {
  it('is let through after the wait, and not judged by the state before it', async () => {
    const mapping = mappings.version as Mapping
    const id = ++nextId
    await database.sql(`insert into slot values ($1, 'ours', 1, 1)`, [id])
    const key = parseKeyParts(mapping, [String(id)])
    const other = await database.session()
    await other.query(`begin; update slot set note = 'theirs', row_version = 2 where id = ${id}`)
    const waiting = changeRecord(target, mapping, {
      key,
      values: { amount: '2.00' },
      guard: { guards: ['v2'] },
      mode: 'commit',
      actor: 'waiter',
    })
    await untilWaiting()
    await other.query('commit')
    await other.end()
    expect((await waiting).record).toEqual({ id, note: 'theirs', amount: '2.00', rowVersion: 3 })
  })

  it('may remove what the other has just changed, and shows that state in the book', async () => {
    const mapping = mappings.version as Mapping
    const id = ++nextId
    await database.sql(`insert into slot values ($1, 'ours', 1, 1)`, [id])
    const other = await database.session()
    await other.query(`begin; update slot set note = 'theirs', row_version = 2 where id = ${id}`)
    const waiting = removeRecord(target, mapping, {
      key: parseKeyParts(mapping, [String(id)]),
      guard: { guards: ['v1', 'v2'] },
      mode: 'commit',
      actor: 'waiter',
    })
    await untilWaiting()
    await other.query('commit')
    await other.end()
    expect((await waiting).receipt.steps[0]?.rows[0]?.before).toMatchObject({ note: 'theirs', rowVersion: 2 })
    expect(await rowOf(id)).toBeUndefined()
  })
})

describe('a table altered under load', () => {
  it('costs a fresh preparation or a clear refusal, and never a wrong write', async () => {
    const mapping = mappings.version as Mapping
    const ids = Array.from({ length: 8 }, () => ++nextId)
    await database.sql(`insert into slot select id, 'ours', 0, 1 from unnest($1::int[]) id`, [ids])
    const refused: string[] = []
    let isDone = false
    const callers = ids.map(async (id) => {
      let committed = 0
      // On a busy machine one may not have had its turn when the last alteration is over.
      while (!isDone || committed === 0) {
        const values = { amount: `${committed + 1}.00` }
        const outcome = await changeRecord(target, mapping, {
          key: parseKeyParts(mapping, [String(id)]),
          values,
          guard: { guards: [`v${committed + 1}`] },
          mode: 'commit',
          actor: 'load',
        }).then(
          () => 'committed',
          (error: unknown) => (isProblem(error) ? error.code : String(error)),
        )
        if (outcome === 'committed') committed++
        else refused.push(outcome)
      }
      return { id, committed }
    })
    for (const ddl of [
      'add column extra text',
      'alter column amount type numeric(8,2)',
      'alter column note type varchar(50)',
      'drop column extra',
      'alter column row_version type bigint',
      'alter column row_version type integer',
    ]) {
      await delay(80)
      await database.sql(`alter table slot ${ddl}`)
    }
    await delay(80)
    isDone = true
    for (const { id, committed } of await Promise.all(callers)) {
      expect(committed).toBeGreaterThan(0)
      expect(await rowOf(id)).toMatchObject({ amount: `${committed}.00`, row_version: committed + 1 })
      expect(await committedEntries(id)).toBe(committed)
    }
    expect(
      refused.filter((code) => !['definition-invalid', 'value-invalid', 'retries-exhausted'].includes(code)),
    ).toEqual([])
  })
})
