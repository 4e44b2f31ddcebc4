import pg from 'pg'
import {
  changeRecord,
  emitCode,
  getEntry,
  parseKeyParts,
  prepareBook,
  resolveMapping,
  Target,
  type Mapping,
} from '@ledgerman/core'
import { compileCode } from '../../../../testing/compiled-code.js'
import { makeObservatory, type TestDatabase } from '../../../../testing/databases.js'
import { passTime } from '../../../../testing/move-clock.js'
import { observatoryDefinition } from '../../../../testing/observatory-mappings.js'

// A book that is another than it was a moment ago knows none of the statements that were written into the one before.
let database: TestDatabase
let target: Target
let programme: Mapping
let hours = 0
const targetOf = ({ url }: TestDatabase) => new Target({ name: 'own', url, digestKey: Buffer.from('k') })
/** By another process. */
async function prepareElsewhere(made: TestDatabase): Promise<void> {
  const elsewhere = targetOf(made)
  await prepareBook(elsewhere)
  await elsewhere.close()
}

/** Changes a record, and reads what its entry says of the statement. */
async function statementInBook(): Promise<string | undefined> {
  const { receipt } = await changeRecord(target, programme, {
    mode: 'commit',
    actor: 'ada',
    key: parseKeyParts(programme, ['P-107']),
    guard: 'any',
    values: { hoursLeft: `${++hours}.00` },
  })
  const entry = await getEntry(target, receipt.id, () => Promise.resolve(programme))
  expect(entry.mapping).toBe('programme')
  return entry.receipt.steps[0]?.statement
}

beforeEach(async () => {
  database = await makeObservatory()
  target = targetOf(database)
  await prepareBook(target)
  programme = resolveMapping(observatoryDefinition('programme'), 1, await target.table('public.programme'))
  expect(await statementInBook()).toMatch(/update public\.programme/)
})
afterEach(async () => {
  await target.close()
  await database.drop()
})

describe('an entry says which statement it is of, where the book', () => {
  it('was dropped and prepared again', async () => {
    await database.sql('drop schema ledgerman cascade')
    await prepareBook(target)
    expect(await statementInBook()).toMatch(/update public\.programme/)
  })

  it('was made anew by somebody else, some seconds ago', async () => {
    await database.sql('drop schema ledgerman cascade')
    await prepareElsewhere(database)
    const setBack = passTime(11_000)
    // Who comes first has it looked at again, beside the change.
    await target.isBookPrepared()
    await target.inReader(undefined, (session) => session.query('select pg_sleep(0.1)'))
    expect(await statementInBook()).toMatch(/update public\.programme/)
    setBack()
  })

  it('is that of another database, which written code works on too', async () => {
    const other = await makeObservatory()
    await prepareElsewhere(other)
    const code = await compileCode(emitCode([programme], [], true))
    code.module.configureBook({ actor: 'ada', digestKey: Buffer.from('k') })
    const changeBy = async (pool: pg.Pool) =>
      code.module.changeProgramme(pool, await code.module.loadProgramme(pool, { code: 'P-107' }), {
        title: `A title ${++hours}`,
      })
    const withoutStatement = `select count(*)::int as n from ledgerman.entry e where not exists (select from ledgerman.statement s where s.id = e.statement)`
    for (const each of [database, other]) {
      const pool = new pg.Pool({ connectionString: each.ownerUrl, max: 1 })
      await changeBy(pool)
      expect(await each.sql(withoutStatement)).toEqual([{ n: 0 }])
      await each.sql('drop schema ledgerman cascade')
      await prepareElsewhere(each)
      const setBack = passTime(11_000)
      await changeBy(pool)
      setBack()
      expect(await each.sql(withoutStatement)).toEqual([{ n: 0 }])
      await pool.end()
    }
    code.remove()
    await other.drop()
  })

  it('came with another database, which was put in the place of this one', async () => {
    const copy = await makeObservatory()
    await prepareElsewhere(copy)
    const beside = await makeObservatory()
    await beside.sql(`select pg_terminate_backend(pid) from pg_stat_activity where datname = '${database.name}'`)
    await beside.sql(`alter database ${database.name} rename to ${database.name}_old`)
    await beside.sql(`alter database ${copy.name} rename to ${database.name}`)
    expect(await statementInBook()).toMatch(/update public\.programme/)
    await beside.sql(`drop database ${database.name}_old`)
    await beside.drop()
  })
})
