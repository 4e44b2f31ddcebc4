import { bookPrepared, targetInfo, targetList } from '@ledgerman/contract'
import { prepareBook } from '@ledgerman/core'
import { defineRoute } from '../http/route.js'
import type { Services } from './services.js'

export function targetRoutes({ targets }: Services) {
  return [
    defineRoute({
      method: 'get',
      path: '/v1/targets',
      role: 'reader',
      looksAtLimits: true,
      summary: 'List targets: whether each can be reached, and whether its book is prepared.',
      replies: { 200: { description: 'Those this token is for.', schema: targetList } },
      handle: async ({ caller }) => {
        const names = targets.names().filter((name) => caller.targets?.includes(name) ?? true)
        return {
          status: 200,
          body: { targets: await Promise.all(names.map((name) => targets.describe(targets.get(name)))) },
        }
      },
    }),
    defineRoute({
      method: 'get',
      path: '/v1/targets/{target}',
      role: 'reader',
      looksAtLimits: true,
      summary: 'One target.',
      replies: { 200: { description: 'Its state.', schema: targetInfo } },
      handle: async ({ params }) => ({
        status: 200,
        body: await targets.describe(targets.get(params['target'] ?? '')),
      }),
    }),
    defineRoute({
      method: 'post',
      path: '/v1/targets/{target}/book',
      role: 'admin',
      summary: 'Prepare the book: create the schema ledgerman in the target. Again is harmless.',
      replies: {
        200: { description: 'It was prepared already.', schema: bookPrepared },
        201: { description: 'Prepared; what was created is listed.', schema: bookPrepared },
      },
      handle: async ({ params }) => {
        const prepared = await prepareBook(targets.get(params['target'] ?? ''))
        return { status: prepared.prepared === 'now' ? 201 : 200, body: prepared }
      },
    }),
  ]
}
