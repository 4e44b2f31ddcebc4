import { entryInfo, entryList, entryQuery, fromRecordAddress, LedgermanProblem } from '@ledgerman/contract'
import { exportEntries, EXPORTED_COLUMNS, getEntry, listEntries, type Target } from '@ledgerman/core'
import { defineRoute } from '../http/route.js'
import { asText, CSV, NDJSON } from '../http/rows-as-text.js'
import type { Services } from './services.js'

/** Until the first lines of an export are there, in milliseconds. */
const LONGEST_EXPORT_MS = 60_000
const PAGE_ENTRIES = 50

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
        const keyed =
          key === undefined ? undefined : await targets.mapping(target, query.mapping ?? '').catch(() => undefined)
        const parts = key === undefined ? undefined : fromRecordAddress(key)
        if (keyed && parts && parts.length !== keyed.key.length)
          throw new LedgermanProblem(
            'request-invalid',
            `key: expected ${keyed.key.length} parts, ${keyed.key.map(({ name }) => name).join(', ')}, got ${parts.length}.`,
            { where: 'key' },
          )
        const asked = { ...filter, ...(parts === undefined ? {} : { key: parts, keyed }) }
        const type = request.accepts(['application/json', NDJSON, CSV])
        if (type === false)
          throw new LedgermanProblem('media-type', `Entries are given as application/json, ${NDJSON} or ${CSV}.`, {
            where: 'accept',
          })
        if (type !== 'application/json') {
          if (limit !== undefined || after !== undefined)
            throw new LedgermanProblem(
              'request-invalid',
              `${limit === undefined ? 'after' : 'limit'}: an export has no pages. Leave it out, or ask for application/json.`,
              { where: limit === undefined ? 'after' : 'limit' },
            )
          return { status: 200, stream: asText(type, EXPORTED_COLUMNS, await exportEntries(target, asked, gone())) }
        }
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
  ]
}
