import { stringifySetCookie } from 'cookie'
import { LedgermanProblem, sessionInfo, sessionInput } from '@ledgerman/contract'
import { LRUCache } from 'lru-cache'
import type { z } from 'zod'
import { readSessionCookie, SESSION_COOKIE } from '../http/authenticate.js'
import { defineRoute } from '../http/route.js'
import type { Services } from './services.js'

/** How many tokens may be tried from one address in a minute that are not known. */
const MOST_ATTEMPTS = 20

/** The console's sign-in: a token is exchanged for a cookie that scripts cannot read. */
export function sessionRoutes({ tokens }: Services) {
  const attempts = new LRUCache<string, number>({ max: 10_000, ttl: 60_000, noUpdateTTL: true })

  /** @throws LedgermanProblem too-many-requests */
  function countAttempt(from: string): void {
    const count = (attempts.get(from) ?? 0) + 1
    attempts.set(from, count)
    if (count > MOST_ATTEMPTS)
      throw new LedgermanProblem(
        'too-many-requests',
        `More than ${MOST_ATTEMPTS} tokens were tried from here within a minute, and none was known. Wait a minute.`,
      )
  }

  return [
    defineRoute<z.ZodType, z.output<typeof sessionInput>>({
      method: 'post',
      path: '/v1/session',
      role: null,
      summary: 'Sign a browser in with a token.',
      body: { 'application/json': { schema: sessionInput } },
      replies: {
        200: {
          description: 'Signed in.',
          schema: sessionInfo,
          headers: { 'set-cookie': 'HttpOnly, SameSite=Strict, for 12 hours.' },
        },
      },
      problems: ['unauthenticated', 'request-invalid', 'media-type', 'too-many-requests'],
      handle: async ({ body, request }) => {
        const from = request.ip ?? ''
        if ((attempts.get(from) ?? 0) >= MOST_ATTEMPTS) countAttempt(from)
        const caller = await tokens.findCaller(body.token.trim())
        if (!caller) countAttempt(from)
        if (!caller) throw new LedgermanProblem('unauthenticated', 'This token is not known here.')
        const { secret, seconds } = await tokens.openSession(caller)
        return {
          status: 200,
          body: { actor: caller.actor, role: caller.role, targets: caller.targets, only: caller.only },
          headers: { 'set-cookie': cookie(secret, seconds, request.secure) },
        }
      },
    }),
    defineRoute({
      method: 'get',
      path: '/v1/session',
      role: 'reader',
      looksAtLimits: true,
      summary: 'Who is signed in, or whose token this is.',
      replies: { 200: { description: 'The caller.', schema: sessionInfo } },
      handle: async ({ caller }) => ({
        status: 200,
        body: { actor: caller.actor, role: caller.role, targets: caller.targets, only: caller.only },
      }),
    }),
    defineRoute({
      method: 'delete',
      path: '/v1/session',
      role: null,
      summary: 'Sign the browser out.',
      replies: { 204: { description: 'Signed out.' } },
      handle: async ({ request }) => {
        const secret = readSessionCookie(request)
        if (secret !== undefined) await tokens.closeSession(secret)
        return { status: 204, headers: { 'set-cookie': cookie('', 0, request.secure) } }
      },
    }),
  ]
}

function cookie(value: string, seconds: number, isSecure: boolean): string {
  return stringifySetCookie(SESSION_COOKIE, value, {
    path: '/',
    maxAge: seconds,
    httpOnly: true,
    sameSite: 'strict',
    secure: isSecure,
  })
}
