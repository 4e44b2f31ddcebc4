import type { Target } from '../target/target.js'

/** Both parties of a deadlock, as PostgreSQL names them: `Process 12 waits for …; blocked by process 34.` */
export async function partiesOf(target: Target, detail: string) {
  const waits = [...detail.matchAll(/Process (\d+) waits for ([^;]+); blocked by process (\d+)/g)]
  const pids = waits.map(([, pid]) => pid ?? '')
  const { rows } = await target
    .control('select pid::text, application_name, usename from pg_stat_activity where pid = any ($1::integer[])', [
      `{${pids.join(',')}}`,
    ])
    .catch(() => ({ rows: [] as (string | null)[][] }))
  return waits.map(([, pid, lock, by]) => {
    const [, application = null, user = null] = rows.find(([each]) => each === pid) ?? []
    return { pid: Number(pid), application, user, waitsFor: lock, blockedBy: Number(by) }
  })
}
