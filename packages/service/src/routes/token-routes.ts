import { LedgermanProblem, newToken, suggestName, tokenInput, tokenList, type TokenInput } from '@ledgerman/contract'
import type { z } from 'zod'
import { isWithin } from '../home/token-store.js'
import { defineRoute } from '../http/route.js'
import type { Services } from './services.js'

export function tokenRoutes({ tokens, targets }: Services) {
  /** A name that is nowhere would make a token that can do nothing. @throws LedgermanProblem not-found */
  async function assertKnown(names: readonly string[], of: readonly string[]): Promise<void> {
    const lists = await Promise.all(
      of.flatMap((target) => [targets.mappings.list(target), targets.transactions.list(target)]),
    )
    const known = new Set(lists.flat().map(({ name }) => name))
    for (const name of names)
      if (!known.has(name))
        throw new LedgermanProblem(
          'not-found',
          `only: there is no mapping and no transaction ${name}. ${suggestName(name, known)}`,
          { where: 'only' },
        )
  }

  return [
    defineRoute({
      method: 'get',
      path: '/v1/tokens',
      role: 'admin',
      summary: 'List tokens, without their secrets: those for targets that the caller has.',
      replies: { 200: { description: 'All that were not revoked.', schema: tokenList } },
      handle: async ({ caller }) => ({ status: 200, body: { tokens: await tokens.list(caller.targets) } }),
    }),
    defineRoute<z.ZodType, TokenInput>({
      method: 'post',
      path: '/v1/tokens',
      role: 'admin',
      summary: 'Make a token.',
      body: { 'application/json': { schema: tokenInput } },
      replies: { 201: { description: 'Its secret is shown this once.', schema: newToken } },
      problems: ['media-type', 'not-found', 'outcome-unknown'],
      handle: async ({ body, caller }) => {
        if (!isWithin(body.targets ?? null, caller.targets))
          throw new LedgermanProblem(
            'forbidden',
            `The token of ${caller.actor} is for ${caller.targets?.join(', ')}; it can make tokens for these only. Name them in targets.`,
            { targets: caller.targets },
          )
        for (const name of body.targets ?? []) targets.get(name)
        if (body.only) await assertKnown(body.only, body.targets ?? targets.names())
        return { status: 201, body: await tokens.add(body), headers: { 'cache-control': 'no-store' } }
      },
    }),
    defineRoute({
      method: 'delete',
      path: '/v1/tokens/{id}',
      role: 'admin',
      summary: 'Revoke a token. It ends at once here, and within a second on other services of the same home.',
      replies: { 204: { description: 'Revoked.' } },
      problems: ['not-found', 'request-invalid'],
      handle: async ({ params, caller }) => {
        await tokens.revoke(params['id'] ?? '', caller.targets)
        return { status: 204 }
      },
    }),
  ]
}
