import { isProblem, type LedgermanProblem, type StepDefinition } from '@ledgerman/contract'
import {
  changeRecord,
  findRecords,
  parseKeyParts,
  removeRecord,
  resolvePlan,
  runPlan,
  type Mapping,
} from '@ledgerman/core'
import { meeting, MEETS } from '../../../../testing/meeting.js'
import { canSpeak } from '../../../../testing/databases.js'
import { openOwnTables, type OwnTables } from '../../../../testing/own-tables.js'

// The database speaks German, and the role may not choose otherwise.
const hasGerman = await canSpeak('de_DE.UTF-8')
const inGerman = hasGerman ? it : it.skip

const LIMITS = { lockWaitMs: 2_000, timeLimitMs: 1_500 }
const noMapping = () => Promise.reject(new Error('no other mapping is needed'))

let own: OwnTables
let mapping: Mapping
beforeAll(async () => {
  own = await openOwnTables({ lc_messages: hasGerman ? 'de_DE.UTF-8' : 'C' }, { limits: LIMITS })
  mapping = await own.mapped(
    'public.node',
    `create table node (id integer primary key, parent integer references node, hours numeric(6,2) check (hours < 100), note text, version integer not null);
     create function doze() returns trigger language plpgsql as $$ begin if new.note = 'doze' then perform pg_sleep(5); end if; return new; end $$;
     create trigger doze before update on node for each row execute function doze();
     insert into node values (1, null, 1, 'a', 1), (2, 1, 1, 'b', 2147483647)`,
    { guard: { by: 'version', property: 'version' } },
  )
})
afterAll(() => own.close())

async function problemOf(work: Promise<unknown>): Promise<LedgermanProblem> {
  const error: unknown = await work.then(
    () => undefined,
    (each: unknown) => each,
  )
  if (!isProblem(error)) throw error instanceof Error ? error : new Error('nothing was refused')
  return error
}

const options = { mode: 'commit', actor: 'test', guard: 'any' } as const
const change = (id: string, values: object) =>
  changeRecord(own.target, mapping, { ...options, key: parseKeyParts(mapping, [id]), values } as never)

const run = async (steps: StepDefinition[], retry: number) => {
  const definition = { params: {}, steps, retry, timeLimit: '5s', lockWait: '5s' }
  const plan = await resolvePlan(own.target, definition, null, null, () => Promise.resolve(mapping))
  return runPlan(own.target, plan, { mode: 'commit', actor: 'test', params: {} })
}

describe('a database that speaks German', () => {
  inGerman('says in its own words that a statement ran too long, and is understood', async () => {
    expect((await problemOf(change('1', { hours: '1000' }))).code).toBe('constraint-broken')
    const error: unknown = await own.target.query('select 1/0').catch((each: unknown) => each)
    expect((error as Error).message).toBe('Division durch Null')
    expect(await problemOf(change('1', { note: 'doze' }))).toMatchObject({
      code: 'time-limit',
      facts: { timeLimitMs: LIMITS.timeLimitMs },
    })
  })

  inGerman('is understood where a constraint, a value or the version stands in the way', async () => {
    expect((await problemOf(change('1', { parent: 9 }))).facts['kind']).toBe('missing-parent')
    const removal = removeRecord(own.target, mapping, { ...options, key: parseKeyParts(mapping, ['1']) })
    expect((await problemOf(removal)).facts['kind']).toBe('still-referenced')
    expect(await problemOf(change('2', { note: 'c' }))).toMatchObject({
      code: 'refused-by-database',
      facts: { sqlstate: '22003', where: 'version' },
    })
    const all = run([{ change: 'node', where: 'id = 1', expect: 1, compute: { hours: 'hours + 100' } }], 0)
    expect(await problemOf(all)).toMatchObject({ code: 'constraint-broken', facts: { key: { id: 1 } } })
    const find = (where: string) => findRecords(own.target, mapping, { where, bind: {}, limit: 1 }, noMapping)
    expect((await problemOf(find(`id > 'much'`))).detail).toMatch(/Expected integer, got 'much', at character 6/)
    expect((await problemOf(find('id = note'))).detail).not.toMatch(/Typumwandlung/)
  })

  inGerman('says who waits for whom in a deadlock', async () => {
    const take = (id: number): StepDefinition => ({
      change: 'node',
      key: { id: String(id) },
      guard: 'any',
      compute: { hours: 'hours + 1' },
    })
    await own.database.sql('update node set version = 1')
    const both = await meeting(own.database, () =>
      Promise.allSettled([run([take(1), MEETS, take(2)], 0), run([take(2), MEETS, take(1)], 0)]),
    )
    const failed = both.find((each) => each.status === 'rejected')
    expect(failed?.reason).toMatchObject({
      code: 'retries-exhausted',
      facts: { parties: [{ waitsFor: expect.stringMatching(/^ShareLock/) as string }, {}] },
    })
  })
})
