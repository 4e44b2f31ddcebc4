import { setTimeout as delay } from 'node:timers/promises'
import type { Staged, StagedInput } from '@ledgerman/contract'
import type { Session, Target } from '@ledgerman/core'

/** How many sessions pile up behind the one that went idle. */
const PILE = 4

/**
 * Stages what goes wrong between two programs, on the demo only, so that it can be seen within a minute. It ends by itself.
 *
 * - `hold`: a session that holds a row, or the whole table.
 * - `idle`: one that changed a row and went idle in its transaction, with others piled up behind.
 * - `edit`: a competing edit, done and committed by another program.
 */
export async function stageDemo(target: Target, input: StagedInput): Promise<Staged> {
  const { what, seconds, lock, code } = input
  const endsAt = new Date(Date.now() + seconds * 1000).toISOString()
  switch (what) {
    case 'edit': {
      await target.query(
        `update public.programme set hours_left = greatest(hours_left - 0.25, 0), priority = priority % 5 + 1, row_version = row_version + 1 where code = $1`,
        [code],
      )
      return { what, message: `Another program changed hours_left and priority of ${code}.`, endsAt: null }
    }
    case 'hold': {
      const statement =
        lock === 'table'
          ? 'lock table public.programme in exclusive mode'
          : 'select * from public.programme where code = $1 for update'
      await inBackground(target, 'night-report', seconds, (session) =>
        session.query(statement, lock === 'table' ? [] : [code]),
      )
      return {
        what,
        message: `A session holds ${lock === 'table' ? 'the table programme' : `the row of ${code}`} for ${seconds} s.`,
        endsAt,
      }
    }
    case 'idle': {
      const change = (session: Session) =>
        session.query('update public.programme set priority = priority where code = $1', [code])
      await inBackground(target, 'forgotten-shell', seconds, change)
      const pile = Array.from({ length: PILE }, (_, at) => standBehind(target, `scheduler-${at + 1}`, seconds, change))
      await Promise.all(pile)
      await delay(100)
      return {
        what,
        message: `A session changed ${code} and went idle in its transaction for ${seconds} s; ${PILE} others wait for it.`,
        endsAt,
      }
    }
  }
}

/** Resolves when a session has sent what it waits with, not when that is answered. */
function standBehind(
  target: Target,
  application: string,
  seconds: number,
  change: (session: Session) => Promise<unknown>,
): Promise<void> {
  return new Promise((resolve) => {
    const send = (session: Session) => {
      const changed = change(session)
      resolve()
      return changed
    }
    inBackground(target, application, 0, send, (seconds + 5) * 1000).catch(() => resolve())
  })
}

/** Does something in a transaction of a session of its own, and holds it for so long; resolves when it is done, not when it ends. */
async function inBackground(
  target: Target,
  application: string,
  seconds: number,
  work: (session: Session) => Promise<unknown>,
  lockWaitMs = 2_000,
): Promise<void> {
  const session = await target.session()
  const limits = `select set_config('application_name', $1, true), set_config('lock_timeout', $2, true), set_config('statement_timeout', $2, true), set_config('idle_in_transaction_session_timeout', $3, true)`
  let isDone = false
  try {
    await session.query('begin')
    await session.query(limits, [application, String(lockWaitMs), String((seconds + 10) * 1000)])
    await work(session)
    isDone = true
  } finally {
    const end = async () => {
      if (isDone) await delay(seconds * 1000, undefined, { ref: false })
      await session.query('rollback').catch(() => undefined)
      session.release(true)
    }
    void end()
  }
}
