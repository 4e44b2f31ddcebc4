import { newToken, tokenInput, tokenList, type TokenInput } from '@ledgerman/contract'
import type { z } from 'zod'
import { defineRoute } from '../http/route.js'
import type { Services } from './services.js'

export function tokenRoutes({ tokens, targets }: Services) {
  return [
    defineRoute({
      method: 'get',
      path: '/v1/tokens',
      role: 'admin',
      summary: 'List tokens, without their secrets.',
      replies: { 200: { description: 'All that were not revoked.', schema: tokenList } },
      handle: async () => ({ status: 200, body: { tokens: await tokens.list() } }),
    }),
    defineRoute<z.ZodType, TokenInput>({
      method: 'post',
      path: '/v1/tokens',
      role: 'admin',
      summary: 'Make a token.',
      body: { 'application/json': { schema: tokenInput } },
      replies: { 201: { description: 'Its secret is shown this once.', schema: newToken } },
      problems: ['media-type', 'not-found'],
      handle: async ({ body }) => {
        for (const name of body.targets ?? []) targets.get(name)
        return { status: 201, body: await tokens.add(body), headers: { 'cache-control': 'no-store' } }
      },
    }),
    defineRoute({
      method: 'delete',
      path: '/v1/tokens/{id}',
      role: 'admin',
      summary: 'Revoke a token. It ends at once here, and within a second on other services of the same home.',
      replies: { 204: { description: 'Revoked.' } },
      problems: ['not-found'],
      handle: async ({ params }) => {
        await tokens.revoke(params['id'] ?? '')
        return { status: 204 }
      },
    }),
  ]
}
