import { entryInfo, entryList, entryQuery, fromRecordAddress, LedgermanProblem } from '@ledgerman/contract'
import { getEntry, listEntries, type Target } from '@ledgerman/core'
import { defineRoute } from '../http/route.js'
import type { Services } from './services.js'

export function entryRoutes({ targets }: Services) {
  const finder = (target: Target) => (name: string, revision: number) => targets.findRevision(target, name, revision)
  return [
    defineRoute({
      method: 'get',
      path: '/v1/targets/{target}/entries',
      role: 'reader',
      summary: 'The book: entries, the newest first.',
      query: entryQuery,
      replies: { 200: { description: 'A page.', schema: entryList } },
      problems: ['book-not-prepared'],
      handle: async ({ params, query }) => {
        const target = targets.get(params['target'] ?? '')
        if (query.key !== undefined && query.mapping === undefined) {
          throw new LedgermanProblem(
            'request-invalid',
            'key: it needs mapping beside it, which says whose key it is.',
            { where: 'key' },
          )
        }
        const { key, ...filter } = query
        const keyed =
          key === undefined ? undefined : await targets.mapping(target, query.mapping ?? '').catch(() => undefined)
        const parts = key === undefined ? undefined : fromRecordAddress(key)
        if (keyed && parts && parts.length !== keyed.key.length)
          throw new LedgermanProblem(
            'request-invalid',
            `key: expected ${keyed.key.length} parts, ${keyed.key.map(({ name }) => name).join(', ')}, got ${parts.length}.`,
            { where: 'key' },
          )
        const page = await listEntries(
          target,
          { ...filter, ...(parts === undefined ? {} : { key: parts, keyed }) },
          finder(target),
        )
        return { status: 200, body: page }
      },
    }),
    defineRoute({
      method: 'get',
      path: '/v1/targets/{target}/entries/{entry}',
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
