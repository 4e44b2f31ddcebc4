import {
  changeQuery,
  changedRecord,
  findQuery,
  foundRecords,
  fromRecordAddress,
  LedgermanProblem,
  loadedRecord,
  record,
  type RecordValues,
} from '@ledgerman/contract'
import {
  changeRecord,
  listRecords,
  loadRecord,
  parseKeyParts,
  type GuardCondition,
  type KeyTexts,
  type Mapping,
  type Target,
} from '@ledgerman/core'
import { z } from 'zod'
import { isUnmodified, readEntityTags } from '../http/conditional.js'
import { defineRoute, type Call } from '../http/route.js'
import type { Services } from './services.js'

const RECORDS = '/v1/targets/{target}/mappings/{mapping}/records'
const keyQuery = z.looseObject({})

export function recordRoutes({ targets }: Services) {
  async function placeOf({ params }: Pick<Call, 'params'>): Promise<{ target: Target; mapping: Mapping }> {
    const target = targets.get(params['target'] ?? '')
    return { target, mapping: await targets.mapping(target, params['mapping'] ?? '') }
  }

  return [
    defineRoute({
      method: 'get',
      path: RECORDS,
      role: 'reader',
      summary: 'List records in key order, a page at a time.',
      query: findQuery,
      replies: {
        200: {
          description: 'A page.',
          schema: foundRecords,
          headers: { link: 'The next page, where there is one (RFC 8288).' },
        },
      },
      handle: async (call) => {
        const { target, mapping } = await placeOf(call)
        const page = await listRecords(target, mapping, call.query)
        return {
          status: 200,
          body: page,
          headers:
            page.next === null ? {} : { link: `<${nextAddress(call.request.originalUrl, page.next)}>; rel="next"` },
        }
      },
    }),
    defineRoute({
      method: 'get',
      path: `${RECORDS}/{key}`,
      role: 'reader',
      summary: 'Load one record by its key.',
      query: keyQuery,
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
        const loaded = await loadRecord(target, mapping, readKey(call, mapping))
        const headers = loaded.guard === null ? {} : { etag: `"${loaded.guard}"` }
        return isUnmodified(call.request, loaded.guard)
          ? { status: 304, headers }
          : { status: 200, body: loaded, headers }
      },
    }),
    defineRoute<typeof changeQuery, RecordValues>({
      method: 'patch',
      path: `${RECORDS}/{key}`,
      role: 'writer',
      summary: 'Change the named properties of one record, by JSON Merge Patch (RFC 7396).',
      query: changeQuery,
      headers: {
        'If-Match':
          'The ETag the record was loaded with. Required unless the mapping has no guard; * accepts any state.',
      },
      body: { 'application/merge-patch+json': { schema: record } },
      replies: {
        200: {
          description: 'The record as it is now, its guard, and the receipt.',
          schema: changedRecord,
          headers: { etag: 'The new guard in quotes.', link: 'The entry in the book.' },
        },
      },
      problems: [
        'guard-required',
        'record-changed',
        'no-such-record',
        'no-key',
        'value-invalid',
        'constraint-broken',
        'row-not-written',
        'rule-broken',
        'lock-timeout',
        'time-limit',
        'book-not-prepared',
        'media-type',
        'too-large',
        'outcome-unknown',
      ],
      handle: async (call) => {
        const { target, mapping } = await placeOf(call)
        const { mode } = call.query
        const guard = guardCondition(call)
        const changed = await changeRecord(target, mapping, {
          key: readKey(call, mapping),
          values: call.body,
          guard,
          mode,
          actor: call.caller.actor,
        })
        const { entry } = changed.receipt
        return {
          status: 200,
          body: changed,
          headers: {
            ...(changed.guard === null || mode === 'rehearse' ? {} : { etag: `"${changed.guard}"` }),
            ...(entry === null ? {} : { link: `<${entry}>; rel="describedby"` }),
          },
        }
      },
    }),
  ]
}

/** The key in the address as it was sent: Express decodes a parameter whole, and a key is split before it is decoded. */
export function readKey({ request }: Pick<Call, 'request'>, mapping: Mapping): KeyTexts {
  const [path = ''] = request.originalUrl.split('?')
  const address = path.split('/')[7] ?? ''
  return parseKeyParts(
    mapping,
    address === '-' && mapping.key.length > 0 ? keyFromQuery(request.query, mapping) : fromRecordAddress(address),
  )
}

/** `…/records/-?key.code=P-107`, for values that a path cannot carry. A key that is really "-" is written %2D. */
function keyFromQuery(query: Record<string, unknown>, mapping: Mapping): string[] {
  return mapping.key.map(({ name }) => {
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

function nextAddress(address: string, after: string): string {
  const [path = '', query = ''] = address.split('?')
  const parameters = new URLSearchParams(query)
  parameters.set('after', after)
  return `${path}?${parameters.toString()}`
}
