import type { Lookout } from '../queryable.js'

/**
 * Cancels what a session runs, or ends the session: the one of that pid that began at that moment, and no other that has the pid
 * since.
 *
 * @returns whether there was such a session; null where it is gone.
 * @throws LedgermanProblem target-denied where the target's role may not signal it
 */
export async function endSession(
  target: Lookout,
  pid: number,
  startedAt: string,
  action: 'cancel' | 'end',
): Promise<{ application: string | null; user: string | null } | null> {
  const signal = action === 'cancel' ? 'pg_cancel_backend' : 'pg_terminate_backend'
  try {
    const { rows } = await target.control(
      `select application_name, usename, ${signal}(pid) from pg_stat_activity
       where pid = $1::integer and backend_start = $2::timestamptz and datname = current_database() and backend_type = 'client backend'`,
      [String(pid), startedAt],
    )
    const [row] = rows
    return row ? { application: row[0] ?? null, user: row[1] ?? null } : null
  } catch (error) {
    throw target.explain(error)
  }
}
