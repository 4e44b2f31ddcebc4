import { waitsInDeadlock } from '../../sessions/database-words.js'
import type { Target } from '../../target/target.js'

/** Both parties of a deadlock, as PostgreSQL names them in the error's detail. */
export async function partiesOf(target: Target, detail: string) {
  const waits = waitsInDeadlock(detail)
  const pids = waits.map(({ pid }) => pid)
  const { rows } = await target
    .control('select pid::text, application_name, usename from pg_stat_activity where pid = any ($1::integer[])', [
      `{${pids.join(',')}}`,
    ])
    .catch(() => ({ rows: [] as (string | null)[][] }))
  return waits.map(({ pid, lock, blockedBy }) => {
    const [, application = null, user = null] = rows.find(([each]) => Number(each) === pid) ?? []
    return { pid, application, user, waitsFor: lock, blockedBy }
  })
}
