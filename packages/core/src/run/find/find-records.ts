import {
  type FoundRecords,
  LedgermanProblem,
  type LoadedRecord,
  printJson,
  type RecordValues,
} from '@ledgerman/contract'
import type { FindMappingByName } from '../../mapping/links.js'
import type { Mapping } from '../../mapping/mapping.js'
import { buildCount, buildFind, type FindStatement, type PagePlace } from '../../statement/build-find.js'
import { isPagedByOffset } from '../../statement/find-order.js'
import type { Target } from '../../target/target.js'
import { toGuard } from '../../mapping/guard-value.js'
import { countRecords, type CountKind } from './count-records.js'
import { readFindRequest, type FindRequest, type ReadFind } from './find-request.js'
import { readFoundRow } from './found-row.js'
import { readCursor, writeCursor, type Place } from './page-cursor.js'
import { runFind, valuesOf } from './run-find.js'

export interface PageRequest extends FindRequest {
  limit: number
  /** The `next` of the page before. */
  after?: string | undefined
  count?: CountKind | undefined
}

/** A find that is ready to be run: the statement and the values of its slots. */
export interface PreparedFind extends FindStatement {
  values: (string | null)[]
  /** Where the page begins; null at the start. */
  place: Place | null
  /** Whether it is worth a prepared statement. */
  isPrepared: boolean
}

/**
 * Finds records a page at a time. Rows that others add, change or remove meanwhile neither repeat nor hide any other.
 *
 * @param signal fires when the caller goes away: the query is cancelled then.
 * @throws LedgermanProblem expression-invalid, request-invalid, value-invalid, time-limit, cancelled, target-unavailable
 */
export async function findRecords(
  target: Target,
  mapping: Mapping,
  request: PageRequest,
  findMapping: FindMappingByName,
  signal?: AbortSignal,
): Promise<FoundRecords> {
  const read = await readFindRequest(mapping, request, false, findMapping, request.count !== undefined)
  const find = prepareFind(target, mapping, request, read)
  const asWritten = read.literals
    ? async () =>
        prepareFind(target, mapping, request, await readFindRequest(mapping, request, false, findMapping)).statement
    : undefined
  const [rows, count] = await Promise.all([
    runFind(target, mapping, find.statement, find.values, signal, { isPrepared: find.isPrepared, asWritten }),
    request.count && countRecords(target, mapping, read, request.count, signal),
  ])
  const last = rows[request.limit - 1]
  const next = last && rows.length > request.limit ? nextCursor(target, request, find, last) : null
  return { found: rows.slice(0, request.limit).map((row) => readFoundRow(find, row)), next, ...count }
}

/** How many of several candidates are shown. */
const CANDIDATES = 5

/**
 * Finds the one record that fits.
 *
 * @throws LedgermanProblem no-such-record; record-ambiguous with up to five candidates and what tells them apart.
 */
export async function findOne(
  target: Target,
  mapping: Mapping,
  request: FindRequest,
  findMapping: FindMappingByName,
  signal?: AbortSignal,
): Promise<LoadedRecord> {
  const read = await readFindRequest(mapping, request, true, findMapping)
  const find = prepareFind(target, mapping, { limit: CANDIDATES }, read)
  const rows = await runFind(target, mapping, find.statement, find.values, signal)
  const [row] = rows
  if (!row)
    throw new LedgermanProblem(
      'no-such-record',
      `No ${mapping.name} fits${request.where ? ` ${request.where}` : ''}.`,
      { mapping: mapping.name, where: 'where', expected: 'one', matched: 0 },
    )
  if (rows.length > 1) throw await ambiguous(target, mapping, request, read, findMapping, signal)
  const guard = row[find.columns.length + find.linkPaths.length] ?? null
  return { record: readFoundRow(find, row), guard: toGuard(mapping, guard) }
}

/** Puts a find together with the values it is run with. */
export function prepareFind(
  target: Target,
  mapping: Mapping,
  page: { limit: number; order?: string | undefined; after?: string | undefined },
  read: ReadFind,
): PreparedFind {
  const place = page.after === undefined ? null : readCursor(target.digestKey, mapping, page.order ?? '', page.after)
  const find = builtFind(mapping, read, pagePlace(mapping, place))
  if (place && 'values' in place && place.values.length !== find.orderAt.length)
    throw new LedgermanProblem('request-invalid', `after: this is not the "next" of a page of ${mapping.name}.`, {
      where: 'after',
    })
  return {
    // Not spread, as in `readFindRequest`.
    statement: find.statement,
    columns: find.columns,
    linkPaths: find.linkPaths,
    orderAt: find.orderAt,
    place,
    values: valuesOf(find.statement, read, place, page.limit + 1),
    // What is asked for once is not worth a prepared statement in every session.
    isPrepared: read.uses > 1,
  }
}

function builtFind(mapping: Mapping, { shape, links, built }: ReadFind, page: PagePlace): FindStatement {
  const kind = typeof page === 'string' ? page : page.isNull.map(Number).join('')
  let find = built.get(kind)
  if (!find) built.set(kind, (find = buildFind(mapping, shape, links, page)))
  return find
}

function pagePlace(mapping: Mapping, place: Place | null): PagePlace {
  if (isPagedByOffset(mapping)) return 'offset'
  return place && 'values' in place ? { isNull: place.values.map((value) => value === null) } : 'start'
}

function nextCursor(target: Target, request: PageRequest, find: PreparedFind, last: (string | null)[]): string {
  const order = request.order ?? ''
  if (find.orderAt.length > 0)
    return writeCursor(target.digestKey, order, { values: find.orderAt.map((at) => last[at] ?? null) })
  const before = find.place && 'offset' in find.place ? find.place.offset : 0
  return writeCursor(target.digestKey, order, { offset: before + request.limit })
}

async function ambiguous(
  target: Target,
  mapping: Mapping,
  request: FindRequest,
  read: ReadFind,
  findMapping: FindMappingByName,
  signal: AbortSignal | undefined,
): Promise<LedgermanProblem> {
  const open = mapping.properties.filter((property) => !property.sensitive).map(({ name }) => name)
  const wide = await readFindRequest(mapping, { ...request, properties: open.join(',') }, false, findMapping)
  const find = prepareFind(target, mapping, { limit: CANDIDATES }, wide)
  const count = buildCount(mapping, read.shape, read.links)
  const [rows, [counted]] = await Promise.all([
    runFind(target, mapping, find.statement, find.values, signal),
    runFind(target, mapping, count, valuesOf(count, read, null, 0), signal),
  ])
  const records = rows.slice(0, CANDIDATES).map((row) => readFoundRow(find, row))
  const keys = mapping.key.filter((property) => !property.sensitive).map(({ name }) => name)
  const version = mapping.guard.by === 'version' ? mapping.guard.property.name : undefined
  const apart = open.filter(
    (name) =>
      name !== version && !keys.includes(name) && new Set(records.map((each) => printJson(each[name]))).size > 1,
  )
  const pick = (record: RecordValues, names: string[]) => Object.fromEntries(names.map((name) => [name, record[name]]))
  const matched = Number(counted?.[0] ?? records.length)
  return new LedgermanProblem(
    'record-ambiguous',
    `${matched} records of ${mapping.name} fit${request.where ? ` ${request.where}` : ''}, and one was meant. Say more, or load one by its key.`,
    {
      mapping: mapping.name,
      where: 'where',
      expected: 'one',
      matched,
      sampleKeys: records.map((record) => pick(record, keys)),
      candidates: records.map((record) => pick(record, [...keys, ...apart])),
    },
  )
}
