import { existsSync, readFileSync } from 'node:fs'
import { join } from 'node:path'
import { setTimeout as delay } from 'node:timers/promises'
import { stopLeftoverCluster } from './cluster.js'
import { STOP_LIMIT_MS } from './end-process.js'

/** Where the number of the service's process stands, for the start that comes after one that was killed. */
export const SERVICE_PID = 'service.pid'

/** Ends the service and the server that a killed start left running on the data folder, in that order, as a stop would have. */
export async function endLeftovers(dataDir: string, say: (text: string) => void): Promise<void> {
  const pid = leftService(join(dataDir, SERVICE_PID))
  if (pid !== undefined) {
    say(`an earlier start was killed; ending the service it left (process ${pid})`)
    await end(pid)
  }
  if (stopLeftoverCluster(dataDir)) say('an earlier start was killed; ended the PostgreSQL server it left')
}

function leftService(pidFile: string): number | undefined {
  if (!existsSync(pidFile)) return undefined
  const pid = Number(readFileSync(pidFile, 'utf8'))
  return isOurs(pid, 'ledgerman-service') ? pid : undefined
}

/** Whether that process runs this program of ours: its number alone may be somebody else's by now. */
export function isOurs(pid: number, program: string): boolean {
  try {
    return readFileSync(`/proc/${pid}/cmdline`, 'utf8').includes(program)
  } catch {
    return false
  }
}

async function end(pid: number): Promise<void> {
  const deadline = performance.now() + STOP_LIMIT_MS
  process.kill(pid, 'SIGTERM')
  while (isOurs(pid, 'ledgerman-service')) {
    if (performance.now() > deadline) process.kill(pid, 'SIGKILL')
    await delay(50)
  }
}
