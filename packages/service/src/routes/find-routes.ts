import {
  explained,
  findBody,
  findQuery,
  foundRecords,
  LedgermanProblem,
  loadedRecord,
  type FindBody,
  type FindQuery,
  type Json,
  type ProblemCode,
  type RecordValues,
} from '@ledgerman/contract'
import {
  explainFind,
  exportRecords,
  findOne,
  findRecords,
  namedFind,
  type Mapping,
  type NamedFind,
  type Target,
} from '@ledgerman/core'
import { z } from 'zod'
import { defineRoute, type Call, type Reply } from '../http/route.js'
import { oneChunk } from '../http/one-chunk.js'
import { asText, contentTypes, CSV, lines, NDJSON } from '../http/rows-as-text.js'
import { RECORDS } from './record-routes.js'
import type { Services } from './services.js'

const PAGE_ROWS = 50
/** Until the first rows of an export are there, in milliseconds; after them it goes on for as long as its caller reads. */
const LONGEST_EXPORT_MS = 60_000
const PROBLEMS: ProblemCode[] = [
  'expression-invalid',
  'value-invalid',
  'no-such-record',
  'record-ambiguous',
  'time-limit',
  'cancelled',
]
const REPLIES = {
  200: {
    description:
      'A page; with `expect=one` the record and its guard beside it; with `explain=true` how it would be found. As NDJSON or CSV all that fits, as it comes.',
    schema: z.union([foundRecords, foundRecords.extend(loadedRecord.shape), explained]),
    headers: { link: 'The next page, where there is one (RFC 8288).' },
    alsoAs: [NDJSON, CSV],
  },
}

/** What a find asks for, however it was sent. */
type Find = Omit<FindBody, 'order' | 'properties' | 'bind' | 'params'> & {
  order?: string | undefined
  properties?: string | undefined
  bind: Record<string, Json>
}

export function findRoutes({ targets }: Services) {
  return [
    defineRoute({
      method: 'get',
      path: RECORDS,
      showsStatements: true,
      role: 'reader',
      summary: 'Find records: by an expression, in an order, a page at a time.',
      query: findQuery,
      queryFamilies: {
        'params.': 'The value of a parameter that the expression, or the find, names.',
        'bind.': 'Another word for `params.`.',
      },
      longestMs: LONGEST_EXPORT_MS,
      replies: REPLIES,
      problems: PROBLEMS,
      handle: (call) => find(call, fromQuery(call.query)),
    }),
    defineRoute<z.ZodType, FindBody>({
      method: 'post',
      path: `${RECORDS}/find`,
      showsStatements: true,
      role: 'reader',
      summary: 'Find records: the same in a body, for what should not stand in an address.',
      body: { 'application/json': { schema: findBody } },
      longestMs: LONGEST_EXPORT_MS,
      replies: REPLIES,
      problems: [...PROBLEMS, 'media-type', 'too-large'],
      handle: (call) => find(call, fromBody(call.body)),
    }),
  ]

  async function find(call: Call, asked: Find): Promise<Reply> {
    const target = targets.get(call.params['target'] ?? '')
    const mapping = await targets.mapping(target, call.params['mapping'] ?? '')
    const findMapping = (name: string) => targets.mappingFor(call.caller, target, name)
    const named = await namedOf(asked, target, mapping, findMapping)
    const request = { ...asked, named, limit: asked.limit ?? PAGE_ROWS }
    if (asked.explain) refuseBeside('explain', asked, ['expect', 'count', 'withGuard'])
    if (asked.expect === 'one') refuseBeside('expect=one', asked, ['after', 'count', 'withGuard'])
    if (asked.explain)
      return { status: 200, body: await explainFind(target, mapping, request, findMapping, call.gone()) }
    if (asked.expect === 'one') {
      const { record, guard } = await findOne(target, mapping, request, findMapping, call.gone())
      const headers: Record<string, string> = guard === null ? {} : { etag: `"${guard}"` }
      return { status: 200, body: { found: [record], next: null, record, guard }, headers }
    }
    const type = call.request.accepts(['application/json', NDJSON, CSV])
    const isExport =
      type !== false && type !== 'application/json' && asked.limit === undefined && asked.after === undefined
    if (asked.withGuard && !isExport)
      throw new LedgermanProblem(
        'request-invalid',
        `withGuard: it goes with an export of all records, as ${NDJSON} or ${CSV} and without limit.`,
        { where: 'withGuard' },
      )
    if (type !== 'application/json' && type !== false) refuseBeside(type, asked, ['count'])
    if (type === false)
      throw new LedgermanProblem('media-type', `Records are given as application/json, ${NDJSON} or ${CSV}.`, {
        where: 'accept',
      })
    if (isExport) return exported(target, mapping, { ...asked, named }, call, type)
    const page = await findRecords(target, mapping, request, findMapping, call.gone())
    const next =
      call.request.method === 'GET' && page.next !== null ? nextAddress(call.request.originalUrl, page.next) : null
    const headers: Record<string, string> = next === null ? {} : { link: `<${next}>; rel="next"` }
    if (type === 'application/json') return { status: 200, body: page, headers }
    const columns = columnsOf(mapping, asked)
    return {
      status: 200,
      headers,
      stream: asText(type, columns.map(toPath), oneChunk(page.found)),
    }
  }

  async function exported(
    target: Target,
    mapping: Mapping,
    asked: Find & { named: NamedFind | undefined },
    call: Call,
    type: string,
  ): Promise<Reply> {
    const findMapping = (name: string) => targets.mappingFor(call.caller, target, name)
    const form = type === CSV ? 'csv' : 'ndjson'
    const request = { ...asked, form, withGuard: asked.withGuard ?? false } as const
    const { columns, batches, isText } = await exportRecords(target, mapping, request, findMapping, call.gone())
    if (!isText)
      return { status: 200, stream: asText(type, columns.map(toPath), batches as AsyncIterable<RecordValues[]>) }
    return {
      status: 200,
      stream: { contentType: contentTypes[form], chunks: lines(form, columns, batches as AsyncIterable<string[]>) },
    }
  }
}

/** Refuses what would be dropped. @throws LedgermanProblem request-invalid */
function refuseBeside(what: string, asked: Find, names: readonly (keyof Find)[]): void {
  const where = names.find((name) => asked[name] !== undefined && asked[name] !== false)
  if (where === undefined) return
  throw new LedgermanProblem('request-invalid', `${where}: it says nothing beside ${what}. Leave one of them out.`, {
    where,
  })
}

/** The find that is named, where one is. @throws LedgermanProblem not-found, definition-invalid, request-invalid */
async function namedOf(
  { find, where }: Find,
  target: Target,
  mapping: Mapping,
  findMapping: (name: string) => Promise<Mapping>,
): Promise<NamedFind | undefined> {
  if (find === undefined) return undefined
  if (where !== undefined)
    throw new LedgermanProblem('request-invalid', 'find and where at once: say one of them.', { where: 'find' })
  return namedFind(target, mapping, find, findMapping)
}

function columnsOf(mapping: Mapping, { properties }: Find): string[] {
  return properties?.split(',').map((path) => path.trim()) ?? mapping.properties.map(({ name }) => name)
}

function fromQuery(query: FindQuery): Find {
  const { find, where, limit, after, expect, count, order, properties, explain, withGuard, ...others } =
    query as FindQuery & Record<string, unknown>
  const bind: Record<string, Json> = {}
  for (const [word, value] of Object.entries(others)) {
    const name = word.slice(word.indexOf('.') + 1)
    if (Object.hasOwn(bind, name)) throw twice(name)
    bind[name] = value as string | string[]
  }
  return { find, where, limit, after, expect, count, order, properties, explain, withGuard, bind }
}

function twice(name: string): LedgermanProblem {
  return new LedgermanProblem('request-invalid', `${name} has two values, as params and as bind: say one of them.`, {
    where: `params.${name}`,
  })
}

function fromBody({ order, properties, bind = {}, params = {}, ...others }: FindBody): Find {
  const both = Object.keys(params).find((name) => Object.hasOwn(bind, name))
  if (both !== undefined) throw twice(both)
  const join = (list: string | string[] | undefined) => (Array.isArray(list) ? list.join(',') : list)
  return {
    ...others,
    order: join(order),
    properties: join(properties),
    bind: { ...bind, ...params } as Record<string, Json>,
  }
}

/** A property, or one of a linked record. */
function toPath(column: string): string[] {
  return column.split('.')
}

function nextAddress(address: string, after: string): string {
  const [path = '', query = ''] = address.split('?')
  const parameters = new URLSearchParams(query)
  parameters.set('after', after)
  return `${path}?${parameters.toString()}`
}
