import {
  entryInfo,
  entryList,
  entryQuery,
  entryRows as rowsOfEntry,
  entryRowsQuery,
  fromRecordAddress,
  LedgermanProblem,
} from '@ledgerman/contract'
import {
  entryRows,
  exportEntries,
  EXPORTED_COLUMNS,
  exportEntryRows,
  getEntry,
  listEntries,
  type Target,
} from '@ledgerman/core'
import type { Request } from 'express'
import { defineRoute } from '../http/route.js'
import { asText, CSV, NDJSON } from '../http/rows-as-text.js'
import type { Services } from './services.js'

/** Until the first lines of an export are there, in milliseconds. */
const LONGEST_EXPORT_MS = 60_000
const PAGE_ENTRIES = 50
const EXPORTED_PATHS = EXPORTED_COLUMNS.map((name) => [name])

export function entryRoutes({ targets }: Services) {
  const finder = (target: Target) => (name: string, revision: number) => targets.findRevision(target, name, revision)
  return [
    defineRoute({
      method: 'get',
      path: '/v1/targets/{target}/entries',
      role: 'reader',
      summary:
        'The book: entries, the newest first. As NDJSON or CSV all that fit with their rows, the oldest first, as it comes.',
      query: entryQuery,
      replies: { 200: { description: 'A page, or all.', schema: entryList, alsoAs: [NDJSON, CSV] } },
      problems: ['book-not-prepared', 'media-type', 'too-many-requests', 'cancelled'],
      longestMs: LONGEST_EXPORT_MS,
      handle: async ({ params, query, request, gone }) => {
        const target = targets.get(params['target'] ?? '')
        if (query.key !== undefined && query.mapping === undefined) {
          throw new LedgermanProblem(
            'request-invalid',
            'key: it needs mapping beside it, which says whose key it is.',
            { where: 'key' },
          )
        }
        const { key, limit, after, ...filter } = query
        const keyed = key === undefined ? undefined : await targets.findMapping(target, query.mapping ?? '')
        const parts = key === undefined ? undefined : fromRecordAddress(key)
        if (keyed && parts && parts.length !== keyed.key.length)
          throw new LedgermanProblem(
            'request-invalid',
            `key: expected ${keyed.key.length} parts, ${keyed.key.map(({ name }) => name).join(', ')}, got ${parts.length}.`,
            { where: 'key' },
          )
        const asked = { ...filter, ...(parts === undefined ? {} : { key: parts, keyed }) }
        const type = formOf(request, 'Entries', { limit, after })
        if (type !== 'application/json')
          return { status: 200, stream: asText(type, EXPORTED_PATHS, await exportEntries(target, asked, gone())) }
        const page = await listEntries(target, { ...asked, after, limit: limit ?? PAGE_ENTRIES }, finder(target))
        return { status: 200, body: page }
      },
    }),
    defineRoute({
      method: 'get',
      path: '/v1/targets/{target}/entries/{entry}',
      showsStatements: true,
      role: 'reader',
      summary: 'One entry with its receipt.',
      replies: { 200: { description: 'The entry.', schema: entryInfo } },
      problems: ['book-not-prepared'],
      handle: async ({ params }) => {
        const target = targets.get(params['target'] ?? '')
        return { status: 200, body: await getEntry(target, params['entry'] ?? '', finder(target)) }
      },
    }),
    defineRoute({
      method: 'get',
      path: '/v1/targets/{target}/entries/{entry}/rows',
      role: 'reader',
      summary:
        'The rows that an entry wrote, step by step, as they were before and after. As NDJSON or CSV all of them, as they come.',
      query: entryRowsQuery,
      replies: { 200: { description: 'A page, or all.', schema: rowsOfEntry, alsoAs: [NDJSON, CSV] } },
      problems: ['book-not-prepared', 'media-type', 'too-many-requests', 'cancelled'],
      longestMs: LONGEST_EXPORT_MS,
      handle: async ({ params, query, request, gone }) => {
        const target = targets.get(params['target'] ?? '')
        const id = params['entry'] ?? ''
        const type = formOf(request, 'The rows of an entry', query)
        if (type !== 'application/json') {
          const { columns, batches } = await exportEntryRows(target, id, finder(target), gone())
          return { status: 200, stream: asText(type, columns, batches) }
        }
        const { limit = PAGE_ENTRIES, after } = query
        return { status: 200, body: await entryRows(target, id, { limit, after }, finder(target)) }
      },
    }),
  ]
}

/** The media type to answer in. @throws LedgermanProblem media-type; request-invalid for a page of what has no pages */
function formOf(request: Request, what: string, { limit, after }: { limit?: unknown; after?: unknown }): string {
  const type = request.accepts(['application/json', NDJSON, CSV])
  if (type === false)
    throw new LedgermanProblem('media-type', `${what} are given as application/json, ${NDJSON} or ${CSV}.`, {
      where: 'accept',
    })
  if (type === 'application/json' || (limit === undefined && after === undefined)) return type
  const where = limit === undefined ? 'after' : 'limit'
  throw new LedgermanProblem(
    'request-invalid',
    `${where}: an export has no pages. Leave it out, or ask for application/json.`,
    { where },
  )
}
