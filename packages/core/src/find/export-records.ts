import type { RecordValues } from '@ledgerman/contract'
import type { FindMappingByName } from '../mapping/links.js'
import type { Mapping } from '../mapping/mapping.js'
import type { Rows } from '../sessions/queryable.js'
import { buildExport } from '../statement/build-find.js'
import type { Target } from '../target/target.js'
import { valuesOf } from './run-find.js'
import { readFindRequest, type FindRequest } from './find-request.js'
import { readFoundRow } from './found-row.js'

/** Rows fetched at a time: enough to make a round trip worth it, few enough to hold. */
const ROWS_AT_A_TIME = 500

/** What an export begins with, and its rows in batches as the reader takes them. */
export interface Export {
  /** Paths of the properties, in order. */
  columns: string[]
  batches: AsyncGenerator<RecordValues[], void, undefined>
}

/**
 * Reads all records that fit, as they are at one moment, a batch at a time: never more than two batches are held.
 *
 * @throws LedgermanProblem too-many-requests; and as `findRecords`, from here or from the batches.
 */
export async function exportRecords(
  target: Target,
  mapping: Mapping,
  request: FindRequest,
  findMapping: FindMappingByName,
  signal?: AbortSignal,
): Promise<Export> {
  const read = await readFindRequest(mapping, request, false, findMapping)
  const find = buildExport(mapping, read.shape, read.links)
  const { statement } = find
  const values = valuesOf(statement, read.bind, null, 0)
  const leave = target.beginExport()
  return { columns: find.columns.map(({ path }) => path.join('.')), batches: batches() }

  async function* batches(): Export['batches'] {
    try {
      const reader = await target.openReader(signal)
      const fetch = () => reader.session.query(`fetch ${ROWS_AT_A_TIME} from found`)
      let ahead: Promise<Rows> | undefined
      try {
        await reader.session.query('begin')
        await reader.session.query(statement.text, values)
        ahead = fetch()
        while (ahead) {
          const { rows }: Rows = await ahead
          // The next batch is fetched while this one is taken.
          ahead = rows.length < ROWS_AT_A_TIME ? undefined : fetch()
          ahead?.catch(() => undefined)
          if (rows.length > 0) yield rows.map((row) => readFoundRow(find, row))
        }
      } catch (error) {
        throw reader.failed(error)
      } finally {
        await ahead?.catch(() => undefined)
        await reader.session.query('rollback').catch((error: unknown) => reader.failed(error))
        await reader.close()
      }
    } catch (error) {
      throw target.explain(error, { mapping, slots: statement.slots, statement })
    } finally {
      leave()
    }
  }
}
