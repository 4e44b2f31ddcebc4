import {
  changeRecord,
  getEntry,
  parseKeyParts,
  prepareBook,
  resolveMapping,
  Target,
  type Mapping,
} from '@ledgerman/core'
import { makeObservatory, type TestDatabase } from '../../../../testing/databases.js'
import { moveClock } from '../../../../testing/move-clock.js'
import { observatoryDefinition } from '../../../../testing/observatory-mappings.js'

// A book that is another than it was a moment ago knows none of the statements that were written into the one before.
let database: TestDatabase
let target: Target
let programme: Mapping
let hours = 0
const targetOf = ({ url }: TestDatabase) => new Target({ name: 'own', url, digestKey: Buffer.from('k') })
const prepareAnew = async () => {
  const elsewhere = targetOf(database)
  await database.sql('drop schema ledgerman cascade')
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
    await prepareAnew()
    const setBack = moveClock(11_000)
    // Who comes first has it looked at again, beside the change.
    await target.isBookPrepared()
    await target.inReader(undefined, (session) => session.query('select pg_sleep(0.1)'))
    expect(await statementInBook()).toMatch(/update public\.programme/)
    setBack()
  })

  it('came with another database, which was put in the place of this one', async () => {
    const copy = await makeObservatory()
    const elsewhere = targetOf(copy)
    await prepareBook(elsewhere)
    await elsewhere.close()
    const beside = await makeObservatory()
    await beside.sql(`select pg_terminate_backend(pid) from pg_stat_activity where datname = '${database.name}'`)
    await beside.sql(`alter database ${database.name} rename to ${database.name}_old`)
    await beside.sql(`alter database ${copy.name} rename to ${database.name}`)
    expect(await statementInBook()).toMatch(/update public\.programme/)
    await beside.sql(`drop database ${database.name}_old`)
    await beside.drop()
  })
})
