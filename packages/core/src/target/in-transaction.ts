import { LedgermanProblem } from '@ledgerman/contract'
import type { Session } from '../sessions/session-pool.js'
import type { Target } from './target.js'

/**
 * Runs `work` between BEGIN and COMMIT on a session of its own. Whatever is thrown rolls back; a session that cannot be
 * rolled back is destroyed, so that none goes back to the pool in an aborted transaction.
 *
 * @throws what `work` throws; an error where COMMIT did not commit.
 */
export function inTransaction<T>(target: Target, work: (session: Session) => Promise<T>): Promise<T> {
  return between(target, 'begin', work, async (session) => {
    // COMMIT of a failed transaction succeeds as a ROLLBACK; only the command tag tells.
    const { command } = await session.query('commit')
    if (command !== 'COMMIT') throw new LedgermanProblem('internal', `COMMIT was answered with ${command}.`)
  })
}

/** The same, always rolled back: deferred constraints are checked first, so that they refuse here what they would there. */
export function inRehearsal<T>(target: Target, work: (session: Session) => Promise<T>): Promise<T> {
  return between(
    target,
    'begin',
    async (session) => {
      const result = await work(session)
      await session.query('set constraints all immediate')
      return result
    },
    async (session) => {
      await session.query('rollback')
    },
  )
}

async function between<T>(
  target: Target,
  begin: string,
  work: (session: Session) => Promise<T>,
  end: (session: Session) => Promise<void>,
): Promise<T> {
  const session = await target.session()
  let isClean = false
  try {
    await session.query(begin)
    const result = await work(session)
    await end(session)
    isClean = true
    return result
  } catch (error) {
    isClean = await session.query('rollback').then(
      () => true,
      () => false,
    )
    throw error
  } finally {
    session.release(!isClean)
  }
}
