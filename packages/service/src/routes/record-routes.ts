import {
  changedRecord,
  changeQuery,
  fromRecordAddress,
  jsonPatch,
  LedgermanProblem,
  loadedRecord,
  loadQuery,
  printJson,
  record,
  removedRecord,
  setAndLoaded,
  toRecordAddress,
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
  loadRecord,
  parseKeyParts,
  parseUniqueKey,
  patchRecord,
  removeRecord,
  replaceRecord,
  type GuardCondition,
  type KeyedResult,
  type KeyTexts,
  type Mapping,
  type PatchOperation,
  type Property,
  type Target,
} from '@ledgerman/core'
import type { z } from 'zod'
import { isUnmodified, readEntityTags } from '../http/conditional.js'
import { defineRoute, type Call, type Reply } from '../http/route.js'
import type { Services } from './services.js'

/** Where a mapping's records stand. */
export const RECORDS = '/v1/targets/{target}/mappings/{mapping}/records'
const IF_MATCH =
  'The ETag the record was loaded with, or several. Required unless the mapping has no guard; * accepts any state.'
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
]

export function recordRoutes({ targets }: Services) {
  async function placeOf({ params }: Pick<Call, 'params'>): Promise<{ target: Target; mapping: Mapping }> {
    const target = targets.get(params['target'] ?? '')
    return { target, mapping: await targets.mapping(target, params['mapping'] ?? '') }
  }

  return [
    defineRoute({
      method: 'get',
      path: `${RECORDS}/{key}`,
      role: 'reader',
      summary: 'Load one record by its key, or by another unique key.',
      query: loadQuery,
      headers: { 'If-None-Match': 'Answers 304 where the record is still the same.' },
      replies: {
        200: {
          description: 'The record and its guard.',
          schema: loadedRecord,
          headers: { etag: 'The guard in quotes.' },
        },
        304: { description: 'Not modified.' },
      },
      problems: ['no-such-record', 'value-invalid', 'no-key'],
      handle: async (call) => {
        const { target, mapping } = await placeOf(call)
        const by = call.query.by === undefined ? mapping.key : parseUniqueKey(mapping, call.query.by)
        const key = readKey(call, mapping, by)
        if (call.query.explain) return { status: 200, body: await explainLoad(target, mapping, key, by, call.gone()) }
        const loaded = await loadRecord(target, mapping, key, by)
        const headers = guardHeaders(loaded.guard)
        return isUnmodified(call.request, loaded.guard)
          ? { status: 304, headers }
          : { status: 200, body: loaded, headers }
      },
    }),
    defineRoute<typeof changeQuery, RecordValues | PatchOperation[] | SetAndLoaded>({
      method: 'patch',
      path: `${RECORDS}/{key}`,
      role: 'writer',
      summary: 'Change the named properties of one record.',
      canFollow: true,
      query: changeQuery,
      headers: { 'If-Match': IF_MATCH },
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
      handle: async (call) => {
        const { target, mapping, ...request } = await conditionOf(call)
        switch (call.mediaType) {
          case 'application/json-patch+json':
            return written(await patchRecord(target, mapping, call.body as PatchOperation[], request), call.query.mode)
          case 'application/json': {
            const { set, loaded } = call.body as SetAndLoaded
            return written(
              await changeRecord(target, mapping, { ...request, values: set, ...(loaded ? { loaded } : {}) }),
              call.query.mode,
            )
          }
          default:
            return written(
              await changeRecord(target, mapping, { ...request, values: call.body as RecordValues, isMerge: true }),
              call.query.mode,
            )
        }
      },
    }),
    defineRoute<typeof changeQuery, RecordValues>({
      method: 'put',
      path: `${RECORDS}/{key}`,
      role: 'writer',
      summary: 'Replace every writable property of one record; missing ones are refused by name.',
      canFollow: true,
      query: changeQuery,
      headers: { 'If-Match': IF_MATCH },
      body: { 'application/json': { schema: record } },
      replies: {
        200: {
          description: 'The record as it is now, its guard, and the receipt.',
          schema: changedRecord,
          headers: WRITTEN,
        },
      },
      problems: [...KEYED_PROBLEMS, 'record-changed', 'guard-required', 'no-such-record', 'no-key'],
      handle: async (call) => {
        const { target, mapping, ...request } = await conditionOf(call)
        return written(await replaceRecord(target, mapping, { ...request, values: call.body }), call.query.mode)
      },
    }),
    defineRoute<typeof changeQuery>({
      method: 'delete',
      path: `${RECORDS}/{key}`,
      role: 'writer',
      summary: 'Remove one record.',
      canFollow: true,
      query: changeQuery,
      headers: { 'If-Match': IF_MATCH },
      replies: { 200: { description: 'The receipt, with the values it had.', schema: removedRecord } },
      problems: [...KEYED_PROBLEMS, 'record-changed', 'guard-required', 'no-such-record', 'no-key'],
      handle: async (call) => {
        const { target, mapping, ...request } = await conditionOf(call)
        const { receipt } = await removeRecord(target, mapping, request)
        return { status: 200, body: { receipt }, headers: entryLink(receipt) }
      },
    }),
    defineRoute<typeof changeQuery, RecordValues>({
      method: 'post',
      path: RECORDS,
      role: 'writer',
      summary: 'Add one record. Columns that are not named get their defaults.',
      canFollow: true,
      query: changeQuery,
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
        const { mode } = call.query
        const added = await addRecord(target, mapping, {
          values: call.body,
          mode,
          actor: call.caller.actor,
          ...(call.onWait ? { onWait: call.onWait } : {}),
        })
        const reply = written(added, mode)
        if (mode === 'rehearse') return reply
        const address = toRecordAddress(
          mapping.key.map(({ name, column }) => keyText(added.record[name], column.type.kind)),
        )
        const place = `/v1/targets/${encodeURIComponent(target.name)}/mappings/${encodeURIComponent(mapping.name)}/records/${address}`
        return {
          ...reply,
          status: 201,
          headers: { ...reply.headers, ...(mapping.key.length > 0 ? { location: place } : {}) },
        }
      },
    }),
  ]

  async function conditionOf(call: Call<z.output<typeof changeQuery>>) {
    const { target, mapping } = await placeOf(call)
    return {
      target,
      mapping,
      key: readKey(call, mapping),
      guard: guardCondition(call),
      mode: call.query.mode,
      actor: call.caller.actor,
      ...(call.onWait ? { onWait: call.onWait } : {}),
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
  const tags = readEntityTags(request, 'if-match')
  if (tags === undefined) return undefined
  // If-Match compares strongly (RFC 9110, section 13.1.1): a weak tag never fits.
  return tags === '*' ? 'any' : { guards: tags.strong }
}
