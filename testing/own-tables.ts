import { isProblem, mappingDefinition, type MappingDefinition } from '@ledgerman/contract'
import { deriveMapping, prepareBook, resolveMapping, Target, type Mapping, type TargetOptions } from '@ledgerman/core'
import { onceItAnswers } from './once-it-answers.js'
import { makeDatabase, type DatabaseNature, type TestDatabase } from './databases.js'

/** By its id: the view as a whole reads the whole book. */
const LAST_ENTRY = `select * from ledgerman.history where id = (select id from ledgerman.entry order by id desc limit 1)`

/** An empty database with a book, for tests that make tables of their own in it. */
export interface OwnTables {
  database: TestDatabase
  target: Target
  /** Makes tables and gives the derived mapping of one, changed where the test says so. */
  mapped(path: string, ddl: string, difference?: Partial<MappingDefinition>): Promise<Mapping>
  lastEntry(): Promise<Record<string, unknown> | undefined>
  close(): Promise<void>
}

/** @param settings what every session of the database begins with, whoever it belongs to */
export async function openOwnTables(
  settings: Readonly<Record<string, string>> = {},
  options: Partial<TargetOptions> = {},
  nature: DatabaseNature = {},
): Promise<OwnTables> {
  const database = await makeDatabase(nature)
  for (const [name, value] of Object.entries(settings))
    await database.sql(`alter database ${database.name} set ${name} = '${value}'`)
  const common = { name: 'own', url: database.url, connections: 10, digestKey: Buffer.from('k') }
  const target = new Target({ ...common, ...options })
  await onceItAnswers(() => prepareBook(target))
  // As where somebody has waited before: to open the session that waits are looked at in takes a busy machine longer than some of them.
  await onceItAnswers(() => target.control('select 1'))
  const grants = ['tables', 'sequences'].map((kind) => `grant all on all ${kind} in schema public to ledgerman_worker`)
  return {
    database,
    target,
    async mapped(path, ddl, difference = {}) {
      await database.sql([ddl, ...grants].join('; '))
      target.forgetCatalogue()
      const table = await target.table(path)
      const { definition } = deriveMapping(table, () => undefined)
      return resolveMapping(mappingDefinition.parse({ ...definition, ...difference }), 1, table)
    },
    lastEntry: async () => (await database.sql(LAST_ENTRY))[0],
    async close() {
      await target.close()
      await database.drop()
    },
  }
}

/** The code a run is refused with; `done` where it is not. */
export function codeOf(run: Promise<unknown>): Promise<string> {
  return run.then(
    () => 'done',
    (error: unknown) => (isProblem(error) ? error.code : String(error)),
  )
}
