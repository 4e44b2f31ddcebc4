import {
  addQuery,
  changedRecord,
  changeQuery,
  fromRecordAddress,
  historyQuery,
  jsonPatch,
  LedgermanProblem,
  loadedRecord,
  loadQuery,
  printJson,
  record,
  recordAsOf as recordAsOfSchema,
  recordHistory,
  rowWaits,
  rowWaitsQuery,
  removedRecord,
  setAndLoaded,
  toRecordPath,
  type ProblemCode,
  type Receipt,
  type RecordValues,
  type RunMode,
  type SetAndLoaded,
} from '@ledgerman/contract'
import {
  addRecord,
  changeRecord,
  explainLoad,
  listRowWaits,
  loadRecord,
  parseKeyParts,
  parseUniqueKey,
  patchRecord,
  readHistory,
  recordAsOf,
  removeRecord,
  replaceRecord,
  type GuardCondition,
  type KeyedResult,
  type KeyTexts,
  type Mapping,
  type PatchOperation,
  type Property,
  type RecordCondition,
  type RunOptions,
  type Target,
} from '@ledgerman/core'
import { z } from 'zod'
import { isMatched, isUnmodified, readEntityTags } from '../http/conditional.js'
import { defineRoute, type Call, type Reply } from '../http/route.js'
import type { Services } from './services.js'
import { asStale, bookedRequest, rehearsedCondition, replayed, withToken } from './written-once.js'

/** Where a mapping's records stand. */
export const RECORDS = '/v1/targets/{target}/mappings/{mapping}/records'
const IF_MATCH =
  'The ETag the record was loaded with, or several. Required unless the mapping has no guard; * accepts any state.'
const ONCE = 'A commit that is sent again with the same key takes effect once.'
const KEY_FAMILY = { 'key.': 'A value of the key, where the address has - in its place.' }
const WRITTEN = { etag: 'The new guard in quotes.', link: 'The entry in the book.' }
const KEYED_PROBLEMS: ProblemCode[] = [
  'value-invalid',
  'constraint-broken',
  'row-not-written',
  'rule-broken',
  'lock-timeout',
  'time-limit',
  'retries-exhausted',
  'cancelled',
  'book-not-prepared',
  'media-type',
  'too-large',
  'outcome-unknown',
  'rehearsal-stale',
  'idempotency-key-reused',
  'idempotency-key-in-use',
]

export function recordRoutes({ targets, rehearsals }: Services) {
  async function placeOf({ params }: Pick<Call, 'params'>): Promise<{ target: Target; mapping: Mapping }> {
    const target = targets.get(params['target'] ?? '')
    return { target, mapping: await targets.mapping(target, params['mapping'] ?? '') }
  }

  return [
    defineRoute({
      method: 'get',
      path: `${RECORDS}/{key}`,
      showsStatements: true,
      role: 'reader',
      summary: 'Load one record by its key, or by another unique key.',
      query: loadQuery,
      queryFamilies: KEY_FAMILY,
      headers: {
        'If-None-Match': 'Answers 304 where the record is still the same.',
        'If-Match': 'Answers 412 where it is not.',
      },
      replies: {
        200: {
          description: 'The record and its guard.',
          schema: z.union([loadedRecord, recordAsOfSchema]),
          headers: { etag: 'The guard in quotes.' },
        },
        304: { description: 'Not modified.' },
      },
      problems: ['no-such-record', 'value-invalid', 'no-key', 'record-changed'],
      handle: async (call) => {
        const { target, mapping } = await placeOf(call)
        const by = call.query.by === undefined ? mapping.key : parseUniqueKey(mapping, call.query.by)
        const key = readKey(call, mapping, by)
        const asOf = call.query['as-of']
        if (asOf !== undefined) return { status: 200, body: await asItWas(call, target, mapping, key, asOf) }
        if (call.query.explain) return { status: 200, body: await explainLoad(target, mapping, key, by, call.gone()) }
        const loaded = await loadRecord(target, mapping, key, by)
        const headers = guardHeaders(loaded.guard)
        if (!isMatched(call.request, loaded.guard))
          throw new LedgermanProblem('record-changed', `This ${mapping.name} does not have the guard in If-Match.`, {
            mapping: mapping.name,
            guard: loaded.guard,
          })
        return isUnmodified(call.request, loaded.guard)
          ? { status: 304, headers }
          : { status: 200, body: loaded, headers }
      },
    }),
    defineRoute({
      method: 'get',
      path: `${RECORDS}/{key}/history`,
      role: 'reader',
      summary: 'What became of a record, property by property, the newest first; also what was written past the book.',
      query: historyQuery,
      queryFamilies: KEY_FAMILY,
      replies: { 200: { description: 'A page.', schema: recordHistory } },
      problems: ['no-such-record', 'no-key', 'value-invalid', 'book-not-prepared'],
      handle: async (call) => {
        const { target, mapping } = await placeOf(call)
        const { property, from, until, after, limit } = call.query
        const key = readKey(call, mapping, mapping.key)
        return { status: 200, body: await readHistory(target, mapping, key, { property, from, until, after, limit }) }
      },
    }),
    defineRoute({
      method: 'get',
      path: `${RECORDS}/{key}/waits`,
      role: 'author',
      summary: 'Who waits for this record, and for whom; nobody where the list is empty.',
      query: rowWaitsQuery,
      queryFamilies: KEY_FAMILY,
      replies: { 200: { description: 'The roots first.', schema: rowWaits } },
      problems: ['no-key', 'value-invalid'],
      handle: async (call) => {
        const { target, mapping } = await placeOf(call)
        return {
          status: 200,
          body: { sessions: await listRowWaits(target, mapping, readKey(call, mapping, mapping.key)) },
        }
      },
    }),
    defineRoute<typeof changeQuery, RecordValues | PatchOperation[] | SetAndLoaded>({
      method: 'patch',
      path: `${RECORDS}/{key}`,
      showsStatements: true,
      role: 'writer',
      summary: 'Change the named properties of one record.',
      canFollow: true,
      mayChange: true,
      query: changeQuery,
      queryFamilies: KEY_FAMILY,
      headers: { 'If-Match': IF_MATCH, 'Idempotency-Key': ONCE },
      body: {
        'application/merge-patch+json': { schema: record },
        'application/json-patch+json': { schema: jsonPatch },
        'application/json': { schema: setAndLoaded },
      },
      replies: {
        200: {
          description: 'The record as it is now, its guard, and the receipt.',
          schema: changedRecord,
          headers: WRITTEN,
        },
      },
      problems: [...KEYED_PROBLEMS, 'record-changed', 'guard-required', 'no-such-record', 'no-key'],
      handle: (call) => {
        return writeOne(call, (target, mapping, request) => {
          switch (call.mediaType) {
            case 'application/json-patch+json':
              return patchRecord(target, mapping, call.body as PatchOperation[], request)
            case 'application/json': {
              const { set, loaded } = call.body as SetAndLoaded
              const all = { ...loaded, ...request.loaded }
              return changeRecord(target, mapping, { ...request, values: set, loaded: all })
            }
            default:
              return changeRecord(target, mapping, { ...request, values: call.body as RecordValues, isMerge: true })
          }
        })
      },
    }),
    defineRoute<typeof changeQuery, RecordValues>({
      method: 'put',
      path: `${RECORDS}/{key}`,
      showsStatements: true,
      role: 'writer',
      summary: 'Replace every writable property of one record; missing ones are refused by name.',
      canFollow: true,
      mayChange: true,
      query: changeQuery,
      queryFamilies: KEY_FAMILY,
      headers: { 'If-Match': IF_MATCH, 'Idempotency-Key': ONCE },
      body: { 'application/json': { schema: record } },
      replies: {
        200: {
          description: 'The record as it is now, its guard, and the receipt.',
          schema: changedRecord,
          headers: WRITTEN,
        },
      },
      problems: [...KEYED_PROBLEMS, 'record-changed', 'guard-required', 'no-such-record', 'no-key'],
      handle: (call) => {
        return writeOne(call, (target, mapping, request) =>
          replaceRecord(target, mapping, { ...request, values: call.body }),
        )
      },
    }),
    defineRoute<typeof changeQuery>({
      method: 'delete',
      path: `${RECORDS}/{key}`,
      showsStatements: true,
      role: 'writer',
      summary: 'Remove one record.',
      canFollow: true,
      mayChange: true,
      query: changeQuery,
      queryFamilies: KEY_FAMILY,
      headers: { 'If-Match': IF_MATCH, 'Idempotency-Key': ONCE },
      replies: { 200: { description: 'The receipt, with the values it had.', schema: removedRecord } },
      problems: [...KEYED_PROBLEMS, 'record-changed', 'guard-required', 'no-such-record', 'no-key'],
      handle: async (call) => {
        const { body } = await writeOne(call, (target, mapping, request) => removeRecord(target, mapping, request))
        const { receipt } = body as KeyedResult
        return { status: 200, body: { receipt }, headers: entryLink(receipt) }
      },
    }),
    defineRoute<typeof addQuery, RecordValues>({
      method: 'post',
      path: RECORDS,
      showsStatements: true,
      role: 'writer',
      summary: 'Add one record. Columns that are not named get their defaults.',
      canFollow: true,
      mayChange: true,
      query: addQuery,
      headers: { 'Idempotency-Key': ONCE },
      body: { 'application/json': { schema: record } },
      replies: {
        200: { description: 'A rehearsal: the record as it would be.', schema: changedRecord },
        201: {
          description: 'The record, its guard, and the receipt.',
          schema: changedRecord,
          headers: { ...WRITTEN, location: 'The record.' },
        },
      },
      problems: KEYED_PROBLEMS,
      handle: async (call) => {
        const { target, mapping } = await placeOf(call)
        const { mode, note } = call.query
        const { actor } = call.caller
        const request = bookedRequest(call)
        await rehearsedCondition(rehearsals, call, target, mapping)
        const before = await replayed(target, mapping, null, actor, request)
        const follower = call.onWait ? { onWait: call.onWait } : {}
        const options = {
          values: call.body,
          mode,
          actor,
          request,
          ...(note === undefined ? {} : { note }),
          ...follower,
        }
        const added = before ?? (await withToken(rehearsals, call, target, await addRecord(target, mapping, options)))
        const reply = written(added, mode)
        if (mode === 'rehearse' || before) return reply
        // Where the answer of the commit was lost, the record may not have been read again.
        const isKnown = mapping.key.length > 0 && mapping.key.every(({ name }) => name in added.record)
        const key = mapping.key.map(
          ({ name, column }) => [name, keyText(added.record[name], column.type.kind)] as const,
        )
        const place = `/v1/targets/${encodeURIComponent(target.name)}/mappings/${encodeURIComponent(mapping.name)}/records/${toRecordPath(key)}`
        return {
          ...reply,
          status: 201,
          headers: { ...reply.headers, ...(isKnown ? { location: place } : {}) },
        }
      },
    }),
  ]

  /** Writes one record: once, where it is sent with a key; exactly what was rehearsed, where with a token. */
  async function writeOne(
    call: Call<z.output<typeof changeQuery>>,
    write: (target: Target, mapping: Mapping, request: RecordCondition & RunOptions) => Promise<KeyedResult>,
  ): Promise<Reply> {
    const { target, mapping } = await placeOf(call)
    const { mode, note } = call.query
    const { actor } = call.caller
    const key = readKey(call, mapping)
    const request = bookedRequest(call)
    const before = await replayed(target, mapping, key, actor, request)
    if (before) return written(before, mode)
    const rehearsed = await rehearsedCondition(rehearsals, call, target, mapping)
    const condition = rehearsed ?? { guard: guardCondition(call) }
    const follower = {
      ...(call.onWait ? { onWait: call.onWait } : {}),
      ...(note === undefined ? {} : { note }),
    }
    try {
      const result = await write(target, mapping, { key, ...condition, mode, actor, request, ...follower })
      return written(await withToken(rehearsals, call, target, result), mode)
    } catch (error) {
      throw asStale(error, rehearsed !== undefined)
    }
  }
}

/** A key value as it stands in an address. */
function keyText(value: unknown, kind: string): string {
  return typeof value === 'string' && kind !== 'json' ? value : printJson(value)
}

function written({ record: values, guard, receipt }: KeyedResult, mode: RunMode): Reply {
  const etag = guardHeaders(mode === 'rehearse' ? null : guard)
  return { status: 200, body: { record: values, guard, receipt }, headers: { ...etag, ...entryLink(receipt) } }
}

function guardHeaders(guard: string | null): Record<string, string> {
  return guard === null ? {} : { etag: `"${guard}"` }
}

function entryLink({ entry }: Receipt): Record<string, string> {
  return entry === null ? {} : { link: `<${entry}>; rel="describedby"` }
}

/** The key in the address as it was sent: Express decodes a parameter whole, and a key is split before it is decoded. */
export function readKey({ request }: Pick<Call, 'request'>, mapping: Mapping, by = mapping.key): KeyTexts {
  const [path = ''] = request.originalUrl.split('?')
  const address = path.split('/')[7] ?? ''
  return parseKeyParts(
    mapping,
    address === '-' && by.length > 0 ? keyFromQuery(request.query, by) : fromRecordAddress(address),
    by,
  )
}

/** `…/records/-?key.code=P-107`, for values that a path cannot carry. A key that is really "-" is written %2D. */
function keyFromQuery(query: Record<string, unknown>, by: readonly Property[]): string[] {
  return by.map(({ name }) => {
    const value = query[`key.${name}`]
    if (typeof value === 'string') return value
    throw new LedgermanProblem(
      'request-invalid',
      `key.${name}: expected the value of ${name} once in the query, got ${value === undefined ? 'none' : 'several'}.`,
      { where: `key.${name}` },
    )
  })
}

function guardCondition({ request }: Pick<Call, 'request'>): GuardCondition | undefined {
  if (request.headers['if-none-match'] !== undefined)
    throw new LedgermanProblem(
      'request-invalid',
      'if-none-match: it says nothing here, where a record that is there is written. If-Match takes its guard.',
      { where: 'if-none-match' },
    )
  const tags = readEntityTags(request, 'if-match')
  if (tags === undefined) return undefined
  // If-Match compares strongly (RFC 9110, section 13.1.1): a weak tag never fits.
  return tags === '*' ? 'any' : { guards: tags.strong }
}

/** The record as it was: what goes with a load of the present does not go with it. */
function asItWas(
  call: Call<{ by?: string | undefined; explain?: boolean | undefined }>,
  target: Target,
  mapping: Mapping,
  key: KeyTexts,
  asOf: string,
) {
  const other = call.query.by !== undefined ? 'by' : call.query.explain ? 'explain' : undefined
  if (other !== undefined)
    throw new LedgermanProblem(
      'request-invalid',
      `${other}: it does not go with as-of, which goes by the mapping's key.`,
      {
        where: other,
      },
    )
  return recordAsOf(target, mapping, key, asOf)
}
