import { LedgermanProblem } from '@ledgerman/contract'
import type { Caller } from '../home/token-store.js'
import type { Route } from './route.js'

/**
 * What a token that is limited to some mappings and transactions may call: what its address names of them, and what says that it
 * looks itself. All else is refused, so that nothing new is open to it by oversight.
 *
 * @throws LedgermanProblem forbidden
 */
export function assertOpenTo(
  caller: Caller,
  route: Pick<Route, 'path' | 'role' | 'looksAtLimits'>,
  params: Readonly<Record<string, unknown>>,
): void {
  if (caller.only === null || route.looksAtLimits) return
  const name = params['mapping'] ?? params['transaction']
  const isForUse = route.role === 'reader' || route.role === 'writer'
  if (typeof name === 'string' && isForUse) return assertNamed(caller, name)
  throw new LedgermanProblem(
    'forbidden',
    `The token of ${caller.actor} is limited to ${caller.only.join(', ')}; it cannot be used for this call.`,
    { only: caller.only },
  )
}

/** @throws LedgermanProblem forbidden where a limited token does not name this mapping or transaction */
export function assertNamed({ actor, only }: Pick<Caller, 'actor' | 'only'>, name: string): void {
  if (only === null || only.includes(name)) return
  throw new LedgermanProblem('forbidden', `The token of ${actor} is limited to ${only.join(', ')}, without ${name}.`, {
    only,
    where: name,
  })
}
