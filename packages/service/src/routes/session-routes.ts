import { LedgermanProblem, sessionInfo, sessionInput } from '@ledgerman/contract'
import type { z } from 'zod'
import { readSessionCookie, SESSION_COOKIE } from '../http/authenticate.js'
import { defineRoute } from '../http/route.js'
import type { Services } from './services.js'

/** The console's sign-in: a token is exchanged for a cookie that scripts cannot read. */
export function sessionRoutes({ tokens }: Services) {
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
      problems: ['unauthenticated', 'request-invalid', 'media-type'],
      handle: async ({ body, request }) => {
        const caller = await tokens.findCaller(body.token.trim())
        if (!caller) throw new LedgermanProblem('unauthenticated', 'This token is not known here.')
        const { secret, seconds } = await tokens.openSession(caller)
        return {
          status: 200,
          body: { actor: caller.actor, role: caller.role, targets: caller.targets },
          headers: { 'set-cookie': cookie(secret, seconds, request.secure) },
        }
      },
    }),
    defineRoute({
      method: 'get',
      path: '/v1/session',
      role: 'reader',
      summary: 'Who is signed in, or whose token this is.',
      replies: { 200: { description: 'The caller.', schema: sessionInfo } },
      handle: async ({ caller }) => ({
        status: 200,
        body: { actor: caller.actor, role: caller.role, targets: caller.targets },
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
  return `${SESSION_COOKIE}=${value}; Path=/; Max-Age=${seconds}; HttpOnly; SameSite=Strict${isSecure ? '; Secure' : ''}`
}
