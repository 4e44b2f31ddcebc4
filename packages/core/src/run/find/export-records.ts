import { LedgermanProblem, type RecordValues } from '@ledgerman/contract'
import type { FindMappingByName } from '../../mapping/links.js'
import type { Mapping } from '../../mapping/mapping.js'
import { buildExport } from '../../statement/build-find.js'
import type { TextForm } from '../../statement/text-form.js'
import { readThroughCursor } from '../../target/read-through-cursor.js'
import type { Target } from '../../target/target.js'
import { valuesOf } from './run-find.js'
import { readFindRequest, type FindRequest } from './find-request.js'
import { readFoundRow } from './found-row.js'

/** Rows fetched at a time: enough to make a round trip worth it, few enough to hold. */
const ROWS_AT_A_TIME = 500
const LINES_AT_A_TIME = 2_000

/** What an export begins with, and its rows in batches as the reader takes them. */
export interface Export {
  /** Paths of the properties, in order, and the guard's name behind them where it is given. */
  columns: string[]
  /** Lines in the form asked for where the server writes them itself, and records elsewhere. */
  batches: AsyncGenerator<string[], void, undefined> | AsyncGenerator<RecordValues[], void, undefined>
  isText: boolean
}

export interface ExportRequest extends FindRequest {
  form: TextForm
  withGuard: boolean
}

/**
 * Reads all records that fit, as they are at one moment, a batch at a time: never more than two batches are held.
 *
 * @throws LedgermanProblem too-many-requests; and as `findRecords`, from here or from the batches.
 */
export async function exportRecords(
  target: Target,
  mapping: Mapping,
  { form, withGuard, ...request }: ExportRequest,
  findMapping: FindMappingByName,
  signal?: AbortSignal,
): Promise<Export> {
  if (withGuard && mapping.guard.by === 'none')
    throw new LedgermanProblem('request-invalid', `withGuard: ${mapping.name} has no guard.`, { where: 'withGuard' })
  const asked = await readFindRequest(mapping, request, withGuard, findMapping)
  const find = buildExport(mapping, asked.shape, asked.links, form)
  const { statement, guardName, isText } = find
  const values = valuesOf(statement, asked, null, 0)
  const columns = [...find.columns.map(({ path }) => path.join('.')), ...(guardName === null ? [] : [guardName])]
  const toRecord = (row: (string | null)[]): RecordValues =>
    guardName === null ? readFoundRow(find, row) : { ...readFoundRow(find, row), [guardName]: row.at(-1) ?? null }
  const read = {
    text: statement.text,
    values,
    signal,
    explain: (error: unknown) => target.explainRead(error, { mapping, slots: statement.slots, statement }),
  }
  const batches = isText
    ? readThroughCursor(target, { ...read, atATime: LINES_AT_A_TIME }, (row) => row[0] ?? '')
    : readThroughCursor(target, { ...read, atATime: ROWS_AT_A_TIME }, toRecord)
  return { columns, isText, batches } as Export
}
