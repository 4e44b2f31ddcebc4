import { LedgermanProblem, PREPARED_ENDS, sessionWords, type LockHolder } from '@ledgerman/contract'

/** The problem for a lock that was not granted in time, with who held it, and the whole chain to its root. */
export function lockTimeout(
  problem: LedgermanProblem,
  holders: readonly LockHolder[],
  lockWaitMs: number,
  step?: number,
  waitedMs?: number,
): LedgermanProblem {
  const [holder] = holders
  const root = holders.findLast(({ isRoot }) => isRoot)
  const who = holder
    ? ` It is held by ${describeHolder(holder)}${root && root.pid !== holder.pid ? `, which waits itself; the root blocker is ${describeHolder(root)}` : ''}.${(root ?? holder).pid < 0 ? ` ${PREPARED_ENDS}` : ''}`
    : ''
  return new LedgermanProblem(
    'lock-timeout',
    `A lock was not granted within ${waitedMs === undefined ? lockWaitMs / 1000 : Math.round(waitedMs / 100) / 10} s${step === undefined ? '' : `, in step ${step}`}.${who} Nothing was changed; try again.`,
    {
      ...problem.facts,
      lockWaitMs,
      ...(waitedMs === undefined ? {} : { waitedMs: Math.round(waitedMs) }),
      ...(step === undefined ? {} : { step }),
      ...holderFacts(holders),
      ...(holder ? pick(holder) : {}),
    },
    { cause: problem.cause },
  )
}

/** Who held the lock, at the top level too: pid, application, user, state, since when, last statement. */
function pick({ pid, application, user, state, since, lastStatement }: LockHolder) {
  return { pid, application, user, state, since, lastStatement }
}

/** What a lock timeout says of who held the lock. */
function holderFacts(holders: readonly LockHolder[]): { holder: LockHolder | null; chain: readonly LockHolder[] } {
  return { holder: holders[0] ?? null, chain: holders }
}

/** The holder in a sentence: `pid 4711 (psql, ada), idle in transaction for 12 s`. */
function describeHolder(holder: LockHolder): string {
  const { state, transactionAgeMs } = holder
  const age = transactionAgeMs === null ? '' : ` for ${Math.round(transactionAgeMs / 100) / 10} s`
  return `${sessionWords(holder)}${state ? `, ${state}${age}` : ''}`
}
