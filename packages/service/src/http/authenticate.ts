import { parseCookie } from 'cookie'
import type { Request } from 'express'
import { includesRole, LedgermanProblem, type Role } from '@ledgerman/contract'
import type { Caller, TokenStore } from '../home/token-store.js'

export const SESSION_COOKIE = 'ledgerman_session'

/**
 * Finds who calls, by bearer token (RFC 6750) or by the console's session cookie, and checks that they may.
 *
 * @throws LedgermanProblem unauthenticated, forbidden, target-denied
 */
export async function authenticate(request: Request, tokens: TokenStore, role: Role): Promise<Caller> {
  const caller = await findCaller(request, tokens)
  if (!caller) {
    throw new LedgermanProblem(
      'unauthenticated',
      'Send a token that is known here: Authorization: Bearer TOKEN. An admin makes them with POST /v1/tokens.',
    )
  }
  if (!includesRole(caller.role, role)) {
    throw new LedgermanProblem(
      'forbidden',
      `This needs the role ${role}; the token of ${caller.actor} has ${caller.role}.`,
      { needed: role, role: caller.role },
    )
  }
  const target = request.params['target']
  if (typeof target === 'string' && caller.targets !== null && !caller.targets.includes(target)) {
    throw new LedgermanProblem('target-denied', `The token of ${caller.actor} is not for ${target}.`, {
      target,
      targets: caller.targets,
    })
  }
  return caller
}

async function findCaller(request: Request, tokens: TokenStore): Promise<Caller | undefined> {
  const header = request.headers.authorization
  if (header !== undefined) {
    const token = /^Bearer +([A-Za-z0-9._~+/=-]+)$/i.exec(header)?.[1]
    return token === undefined ? undefined : tokens.findCaller(token)
  }
  const session = readSessionCookie(request)
  if (session === undefined) return undefined
  assertSameOrigin(request)
  return tokens.findSessionCaller(session)
}

export function readSessionCookie(request: Request): string | undefined {
  return parseCookie(request.headers.cookie ?? '')[SESSION_COOKIE]
}

/** A browser says where a request comes from; with a cookie, a change from anywhere else is refused. SameSite=Strict stands before this. */
function assertSameOrigin(request: Request): void {
  if (request.method === 'GET' || request.method === 'HEAD') return
  const { origin } = request.headers
  if (origin !== undefined && URL.parse(origin)?.host !== request.host) {
    throw new LedgermanProblem('forbidden', 'A browser session only counts for requests from the console itself.', {
      origin,
    })
  }
}
