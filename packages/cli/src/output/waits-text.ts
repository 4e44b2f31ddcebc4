import { PREPARED_ENDS, sessionWords, type LockHolder, type WaitingSession, type Waits } from '@ledgerman/contract'
import colors from 'picocolors'
import { formatValue } from './table.js'

/** Who blocks whom as a tree: each root, and under it those that wait for it. */
export function formatWaits({ sessions, idleLimitMs }: Waits): string {
  if (sessions.length === 0)
    return `Nobody waits for a lock, and nobody has been idle in a transaction for ${idleLimitMs / 1000} s.`
  const roots = sessions.filter(({ blockedBy }) => blockedBy.length === 0)
  const shown = new Set<number>()
  const lines = roots.flatMap((root) => branch(root, '', ''))
  // Who waits in a circle hangs under no root.
  const circling = sessions
    .filter(({ pid }) => !shown.has(pid))
    .flatMap((session) => (shown.has(session.pid) ? [] : branch(session, '', '')))
  return [...lines, ...circling].join('\n')

  function branch(session: WaitingSession, first: string, rest: string): string[] {
    if (shown.has(session.pid)) return [`${first}${colors.dim(`${session.pid}, see above`)}`]
    shown.add(session.pid)
    const waiters = sessions.filter(({ blockedBy }) => blockedBy.includes(session.pid))
    const own = [
      `${first}${headline(session)}`,
      `${rest}${waiters.length > 0 ? '│ ' : '  '}${colors.dim(session.pid < 0 ? PREPARED_ENDS : formatValue(oneLine(session.lastStatement), 90))}`,
    ]
    return [
      ...own,
      ...waiters.flatMap((waiter, at) => {
        const isLast = at === waiters.length - 1
        return branch(waiter, `${rest}${isLast ? '└─ ' : '├─ '}`, `${rest}${isLast ? '   ' : '│  '}`)
      }),
    ]
  }
}

function headline(session: WaitingSession): string {
  const { pid, application, user, state, behind, isRoot, isIdleTooLong, wants, table, holds } = session
  const who = [application, user].filter(Boolean).join(', ')
  const mark = isRoot ? colors.red('root') : isIdleTooLong ? colors.yellow('idle too long') : ''
  const lock =
    wants === null
      ? holds.length > 0
        ? `holds ${holds.join('; ')}`
        : ''
      : `waits for ${wants}${table ? ` of ${table}` : ''}`
  const since = session.transactionAgeMs === null ? '' : `transaction ${seconds(session.transactionAgeMs)}`
  const idle = isIdleTooLong && isRoot ? colors.yellow('idle too long') : ''
  return [
    pid < 0 ? colors.bold(sessionWords(session)) : colors.bold(String(pid)),
    pid > 0 && who && `(${who})`,
    mark,
    idle,
    state,
    since,
    lock,
    behind > 0 ? `${behind} behind` : '',
  ]
    .filter(Boolean)
    .join('  ')
}

/** Who holds the lock that something waits for, in one line. */
export function formatHolders(holders: readonly LockHolder[]): string {
  const [first] = holders
  if (!first) return 'waiting for a lock'
  const root = holders.findLast(({ isRoot }) => isRoot)
  const name = (holder: LockHolder) => {
    const { state, transactionAgeMs } = holder
    return `${sessionWords(holder)}${state ? `, ${state}` : ''}${transactionAgeMs === null ? '' : ` for ${seconds(transactionAgeMs)}`}`
  }
  const behind = root && root.pid !== first.pid ? `, which waits itself; the root blocker: ${name(root)}` : ''
  return `waiting for a lock held by ${name(first)}${behind}`
}

function seconds(ms: number): string {
  return `${(ms / 1000).toFixed(1)} s`
}

function oneLine(text: string | null): string {
  return (text ?? '').replace(/\s+/g, ' ').trim()
}
